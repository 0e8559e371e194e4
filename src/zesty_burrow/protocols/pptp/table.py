"""The states of a PPTP session, and the table of what leads where (RFC 2637 §3.1, seen from above the call)."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from types import MappingProxyType


class State(StrEnum):
    """Where a session is."""

    IDLE = "idle"
    CONNECTING = "connecting"
    CALLING = "calling"
    SIGNING_IN = "signing in"
    ADDRESSES = "addresses"
    UP = "up"
    ENDED = "ended"


class Signal(StrEnum):
    """What can happen to it."""

    START = "start"
    REACHED = "the gateway answers"
    OPENED = "the call stands"
    SIGNED_IN = "signed in"
    NETWORK_UP = "addresses"
    END = "end"


_S, _G = State, Signal
TRANSITIONS: Mapping[tuple[State, Signal], State] = MappingProxyType(
    {
        (_S.IDLE, _G.START): _S.CONNECTING,
        (_S.CONNECTING, _G.REACHED): _S.CALLING,
        (_S.CALLING, _G.OPENED): _S.SIGNING_IN,
        (_S.SIGNING_IN, _G.SIGNED_IN): _S.ADDRESSES,
        (_S.ADDRESSES, _G.NETWORK_UP): _S.UP,
        # The second family's address may come later.
        (_S.UP, _G.NETWORK_UP): _S.UP,
        **{(state, _G.END): _S.ENDED for state in _S if state is not _S.ENDED},
    }
)
"""Anything that is not in this table is a fault of the program."""
