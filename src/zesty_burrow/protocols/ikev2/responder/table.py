"""A gateway's settings, the responder's states, what can happen to it, and the table of what leads where."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from types import MappingProxyType

from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.ikev2.initiator.config import CERTIFICATE
from zesty_burrow.protocols.ikev2.machine import ppk
from zesty_burrow.protocols.ikev2.machine.authentication import Callers
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff
from zesty_burrow.protocols.ikev2.transition import to
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.registry import (
    ExchangeType,
)
from zesty_burrow.protocols.session import NetworkSettings
from zesty_burrow.records import dataclass, field


class State(StrEnum):
    """The state of the negotiation."""

    AUTH_AWAITED = "IKE_AUTH awaited"
    SECOND_AWAITED = "second round awaited"
    SIGNING_IN = "signing in"
    CONFIRMING = "confirming"
    ESTABLISHED = "established"
    CLOSING = "closing"
    CLOSED = "closed"


class Signal(StrEnum):
    """What can happen to it."""

    AUTH_REQUEST = "IKE_AUTH request"
    INTERMEDIATE_REQUEST = "IKE_INTERMEDIATE request"
    INFORMATIONAL_REQUEST = "INFORMATIONAL request"
    CHILD_REQUEST = "CREATE_CHILD_SA request"
    INFORMATIONAL_RESPONSE = "INFORMATIONAL response"
    UNUSABLE_REQUEST = "request that cannot be used"
    UNUSABLE_RESPONSE = "response that cannot be used"
    GIVE_UP = "time-out"
    CLOSE = "close"
    CHILD_RESPONSE = "CREATE_CHILD_SA response"
    FOLLOWUP_REQUEST = "IKE_FOLLOWUP_KE request"
    FOLLOWUP_RESPONSE = "IKE_FOLLOWUP_KE response"
    PROBE = "probe"
    REKEY = "rekey"
    REKEY_IKE = "rekey the IKE SA"


_S, _G = State, Signal
TRANSITIONS = MappingProxyType(
    {
        (_S.AUTH_AWAITED, _G.AUTH_REQUEST): to(
            "auth.on_first_auth", _S.SECOND_AWAITED, _S.SIGNING_IN, _S.ESTABLISHED, _S.CLOSED
        ),
        (_S.AUTH_AWAITED, _G.INTERMEDIATE_REQUEST): to("auth.on_intermediate", _S.AUTH_AWAITED, _S.CLOSED),
        (_S.AUTH_AWAITED, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.SECOND_AWAITED, _G.AUTH_REQUEST): to("auth.on_second_round", _S.SIGNING_IN, _S.CLOSED),
        (_S.SECOND_AWAITED, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.SIGNING_IN, _G.AUTH_REQUEST): to("auth.on_sign_in", _S.SIGNING_IN, _S.CONFIRMING, _S.CLOSED),
        (_S.SIGNING_IN, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.CONFIRMING, _G.AUTH_REQUEST): to("auth.on_confirm", _S.ESTABLISHED, _S.CLOSED),
        (_S.CONFIRMING, _G.CLOSE): to("on_abandon", _S.CLOSED),
        (_S.ESTABLISHED, _G.INFORMATIONAL_REQUEST): to("on_informational", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.INFORMATIONAL_RESPONSE): to("on_alive", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.CHILD_REQUEST): to("on_child_request", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.CHILD_RESPONSE): to("on_child_response", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.FOLLOWUP_REQUEST): to("on_followup_request", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.FOLLOWUP_RESPONSE): to("on_followup_response", _S.ESTABLISHED, _S.CLOSED),
        **{
            (state, _G.UNUSABLE_REQUEST): to("on_unusable", _S.CLOSED)
            for state in (_S.AUTH_AWAITED, _S.SECOND_AWAITED, _S.SIGNING_IN, _S.CONFIRMING)
        },
        (_S.ESTABLISHED, _G.UNUSABLE_REQUEST): to("on_unusable_request", _S.ESTABLISHED, _S.CLOSED),
        (_S.ESTABLISHED, _G.UNUSABLE_RESPONSE): to("on_unusable_response", _S.ESTABLISHED, _S.CLOSING),
        (_S.CLOSING, _G.UNUSABLE_REQUEST): to("on_nothing", _S.CLOSING),
        (_S.CLOSING, _G.UNUSABLE_RESPONSE): to("on_abandon", _S.CLOSED),
        (_S.ESTABLISHED, _G.PROBE): to("on_probe", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.REKEY): to("on_rekey", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.REKEY_IKE): to("on_rekey_ike", _S.ESTABLISHED),
        (_S.ESTABLISHED, _G.GIVE_UP): to("on_deleted", _S.CLOSED),
        (_S.ESTABLISHED, _G.CLOSE): to("on_close", _S.CLOSING),
        (_S.CLOSING, _G.INFORMATIONAL_REQUEST): to("on_informational", _S.CLOSING, _S.CLOSED),
        (_S.CLOSING, _G.INFORMATIONAL_RESPONSE): to("on_deleted", _S.CLOSED),
        (_S.CLOSING, _G.GIVE_UP): to("on_deleted", _S.CLOSED),
        (_S.CLOSING, _G.CLOSE): to("on_nothing", _S.CLOSING),
        (_S.CLOSED, _G.CLOSE): to("on_nothing", _S.CLOSED),
    }
)
"""Anything that is not in this table is an error."""

REQUESTS = {
    ExchangeType.IKE_AUTH: Signal.AUTH_REQUEST,
    ExchangeType.IKE_INTERMEDIATE: Signal.INTERMEDIATE_REQUEST,
    ExchangeType.INFORMATIONAL: Signal.INFORMATIONAL_REQUEST,
    ExchangeType.CREATE_CHILD_SA: Signal.CHILD_REQUEST,
    ExchangeType.IKE_FOLLOWUP_KE: Signal.FOLLOWUP_REQUEST,
}
RESPONSES = {
    ExchangeType.CREATE_CHILD_SA: Signal.CHILD_RESPONSE,
    ExchangeType.IKE_FOLLOWUP_KE: Signal.FOLLOWUP_RESPONSE,
    ExchangeType.INFORMATIONAL: Signal.INFORMATIONAL_RESPONSE,
}


@dataclass(frozen=True, slots=True)
class ResponderConfig:
    """A gateway's settings.

    ``certificates``: its own first, DER. ``password_of``: the password of an account, or None. ``assign``: the
    inner network for an account that would like certain addresses, or None where no address is left.
    ``remote``: the networks that it carries.
    ``callers``: who is let in without EAP, or by EAP-TLS. ``second_round``: a certificate alone is not enough.
    ``redirect``: another gateway, to which callers that can are sent (RFC 5685).
    ``sign_in_seconds``: after how long a sign-in has to be repeated, if it has (RFC 4478).
    ``proof``: how the gateway proves itself, by a profile's words; a caller that signs in with a pre-shared key gets a
    proof by that key.
    """

    identity: Identity
    certificates: tuple[bytes, ...]
    key: PrivateKey
    ike_offers: tuple[Offer, ...]
    esp_offers: tuple[Offer, ...]
    password_of: Callable[[str], str | None]
    assign: Callable[[str, tuple[bytes, ...]], NetworkSettings | None]
    remote: tuple[AddressRange, ...]
    callers: Callers = field(default_factory=Callers)
    proof: str = CERTIFICATE
    shared_key: bytes = b""
    additional_key_of: ppk.KeyOf | None = None
    additional_required: bool = False
    second_round: bool = False
    redirect: str = ""
    sign_in_seconds: int = 0
    backoff: Backoff = field(default_factory=Backoff)
    half_open_limit: int = 100
    cookie_above: int = 20
    half_open_seconds: float = 30.0
