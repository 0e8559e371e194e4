"""The initiator's states, what can happen to it, and the table of what leads where (RFC 7296 §1.2, §2.16)."""

from __future__ import annotations

from enum import StrEnum
from types import MappingProxyType

from zesty_burrow.protocols.ikev2.transition import to
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType


class State(StrEnum):
    """The state of the negotiation."""

    IDLE = "idle"
    INIT_SENT = "init sent"
    INTERMEDIATE = "second key exchange"
    PROOF_AWAITED = "proof awaited"
    SIGNING_IN = "signing in"
    CONFIRMING = "confirming"
    ESTABLISHED = "established"
    CLOSING = "closing"
    CLOSED = "closed"


class Signal(StrEnum):
    """What can happen to it."""

    START = "start"
    INIT_RESPONSE = "IKE_SA_INIT response"
    INTERMEDIATE_RESPONSE = "IKE_INTERMEDIATE response"
    AUTH_RESPONSE = "IKE_AUTH response"
    INFORMATIONAL_REQUEST = "INFORMATIONAL request"
    INFORMATIONAL_RESPONSE = "INFORMATIONAL response"
    CHILD_REQUEST = "CREATE_CHILD_SA request"
    CHILD_RESPONSE = "CREATE_CHILD_SA response"
    FOLLOWUP_REQUEST = "IKE_FOLLOWUP_KE request"
    FOLLOWUP_RESPONSE = "IKE_FOLLOWUP_KE response"
    REKEY = "rekey"
    REKEY_IKE = "rekey the IKE SA"
    MOVE = "moved"
    PROBE = "probe"
    UNUSABLE_REQUEST = "request that cannot be used"
    UNUSABLE_RESPONSE = "response that cannot be used"
    GIVE_UP = "time-out"
    CLOSE = "close"


_S, _G = State, Signal
TRANSITIONS = MappingProxyType(
    {
        (_S.IDLE, _G.START): to("init.on_start", _S.INIT_SENT),
        (_S.IDLE, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.INIT_SENT, _G.INIT_RESPONSE): to(
            "on_init_response", _S.INIT_SENT, _S.INTERMEDIATE, _S.PROOF_AWAITED, _S.CLOSED
        ),
        (_S.INIT_SENT, _G.GIVE_UP): to("on_give_up", _S.CLOSED),
        (_S.INIT_SENT, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.INTERMEDIATE, _G.INTERMEDIATE_RESPONSE): to("on_intermediate", _S.PROOF_AWAITED, _S.CLOSED),
        (_S.INTERMEDIATE, _G.GIVE_UP): to("on_give_up", _S.CLOSED),
        (_S.INTERMEDIATE, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.PROOF_AWAITED, _G.AUTH_RESPONSE): to("auth.on_proof", _S.SIGNING_IN, _S.ESTABLISHED, _S.CLOSING, _S.CLOSED),
        (_S.PROOF_AWAITED, _G.GIVE_UP): to("on_give_up", _S.CLOSED),
        (_S.PROOF_AWAITED, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.SIGNING_IN, _G.AUTH_RESPONSE): to("auth.on_sign_in", _S.SIGNING_IN, _S.CONFIRMING, _S.CLOSED),
        (_S.SIGNING_IN, _G.GIVE_UP): to("on_give_up", _S.CLOSED),
        (_S.SIGNING_IN, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.CONFIRMING, _G.AUTH_RESPONSE): to("auth.on_confirmed", _S.ESTABLISHED, _S.CLOSING, _S.CLOSED),
        (_S.CONFIRMING, _G.GIVE_UP): to("on_give_up", _S.CLOSED),
        (_S.CONFIRMING, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.ESTABLISHED, _G.INFORMATIONAL_REQUEST): to(
            "established.on_informational", _S.ESTABLISHED, _S.CLOSING, _S.CLOSED
        ),
        (_S.ESTABLISHED, _G.CHILD_REQUEST): to("established.on_child_request", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.CHILD_RESPONSE): to("established.on_child_response", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.FOLLOWUP_REQUEST): to("established.on_followup_request", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.FOLLOWUP_RESPONSE): to("established.on_followup_response", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.INFORMATIONAL_RESPONSE): to("established.on_alive", _S.ESTABLISHED, _S.CLOSED),
        **{
            (state, _G.UNUSABLE_RESPONSE): to("on_unusable", _S.CLOSED)
            for state in (_S.INTERMEDIATE, _S.PROOF_AWAITED, _S.SIGNING_IN, _S.CONFIRMING)
        },
        (_S.ESTABLISHED, _G.UNUSABLE_REQUEST): to("established.on_unusable_request", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.UNUSABLE_RESPONSE): to("established.on_unusable_response", _S.ESTABLISHED, _S.CLOSING),
        (_S.ESTABLISHED, _G.REKEY): to("established.on_rekey", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.MOVE): to("established.on_move", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.REKEY_IKE): to("established.on_rekey_ike", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.PROBE): to("established.on_probe", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.GIVE_UP): to("established.on_lost", _S.CLOSED),
        (_S.ESTABLISHED, _G.CLOSE): to("established.on_close", _S.CLOSING),
        (_S.CLOSING, _G.INFORMATIONAL_REQUEST): to("established.on_informational_closing", _S.CLOSING, _S.CLOSED),
        (_S.CLOSING, _G.INFORMATIONAL_RESPONSE): to("established.on_deleted", _S.CLOSED),
        (_S.CLOSING, _G.UNUSABLE_REQUEST): to("on_nothing", _S.CLOSING),
        (_S.CLOSING, _G.UNUSABLE_RESPONSE): to("on_abandon", _S.CLOSED),
        (_S.CLOSING, _G.GIVE_UP): to("established.on_deleted", _S.CLOSED),
        (_S.CLOSING, _G.CLOSE): to("on_nothing", _S.CLOSING),
        (_S.CLOSED, _G.CLOSE): to("on_nothing", _S.CLOSED),
    }
)
"""Anything that is not in this table is an error: a stranger's message is ignored, a call of ours is a fault."""

RESPONSES = {
    ExchangeType.IKE_SA_INIT: Signal.INIT_RESPONSE,
    ExchangeType.IKE_INTERMEDIATE: Signal.INTERMEDIATE_RESPONSE,
    ExchangeType.IKE_AUTH: Signal.AUTH_RESPONSE,
    ExchangeType.INFORMATIONAL: Signal.INFORMATIONAL_RESPONSE,
    ExchangeType.CREATE_CHILD_SA: Signal.CHILD_RESPONSE,
    ExchangeType.IKE_FOLLOWUP_KE: Signal.FOLLOWUP_RESPONSE,
}
REQUESTS = {
    ExchangeType.INFORMATIONAL: Signal.INFORMATIONAL_REQUEST,
    ExchangeType.CREATE_CHILD_SA: Signal.CHILD_REQUEST,
    ExchangeType.IKE_FOLLOWUP_KE: Signal.FOLLOWUP_REQUEST,
}
