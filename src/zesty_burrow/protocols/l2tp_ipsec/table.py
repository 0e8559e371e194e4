"""The states of a session of L2TP over IPsec, and what leads where (RFC 2409 §5, RFC 3193 §2, RFC 1661)."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from types import MappingProxyType


class State(StrEnum):
    """Where a session is."""

    IDLE = "idle"
    REACHING = "reaching"
    NEGOTIATING = "negotiating"
    PROVING = "proving"
    KEYING = "keys of ESP"
    CALLING = "calling"
    ADDRESSES = "addresses"
    UP = "up"
    ENDED = "ended"


class Signal(StrEnum):
    """What can happen to it."""

    START = "start"
    REACHED = "the gateway answers"
    AGREED = "algorithms agreed"
    PROVEN = "the gateway has proved itself"
    KEYED = "keys of ESP agreed"
    SIGNED_IN = "signed in"
    NETWORK_UP = "addresses given"
    RENEWED = "new keys"
    END = "end"


_S, _G = State, Signal
_KEYED = (_S.CALLING, _S.ADDRESSES, _S.UP)
TRANSITIONS: Mapping[tuple[State, Signal], State] = MappingProxyType(
    {
        (_S.IDLE, _G.START): _S.REACHING,
        (_S.REACHING, _G.REACHED): _S.NEGOTIATING,
        (_S.NEGOTIATING, _G.AGREED): _S.PROVING,
        # The gateway repeats its answer if it did not get the next message.
        (_S.PROVING, _G.AGREED): _S.PROVING,
        (_S.PROVING, _G.PROVEN): _S.KEYING,
        (_S.KEYING, _G.KEYED): _S.CALLING,
        (_S.CALLING, _G.SIGNED_IN): _S.ADDRESSES,
        (_S.ADDRESSES, _G.NETWORK_UP): _S.UP,
        # A gateway may begin PPP again (RFC 1661 §3.4), and the second family's address may come later.
        (_S.ADDRESSES, _G.SIGNED_IN): _S.ADDRESSES,
        (_S.UP, _G.SIGNED_IN): _S.UP,
        (_S.UP, _G.NETWORK_UP): _S.UP,
        # Either end may renew keys from the first ones on.
        **{(state, _G.RENEWED): state for state in (_S.KEYING, *_KEYED)},
        **{(state, _G.END): _S.ENDED for state in _S if state is not _S.ENDED},
    }
)
"""Anything that is not in this table is a fault of the program."""
