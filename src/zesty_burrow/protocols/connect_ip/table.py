"""The states of a client's end of CONNECT-IP, and the table of what leads where."""

from __future__ import annotations

from enum import StrEnum
from types import MappingProxyType


class State(StrEnum):
    """Where a session is."""

    IDLE = "idle"
    HANDSHAKE = "handshake"
    SIGN_IN = "sign-in"
    ADDRESSES = "addresses"
    UP = "up"
    LOST = "lost"
    ENDED = "ended"


class Signal(StrEnum):
    """What can happen to it."""

    START = "start"
    SECURED = "TLS is complete and the gateway proven"
    ANSWERED = "the request is accepted"
    GRANTED = "addresses and routes"
    LOSE = "the connection is lost"
    END = "end"


_S, _G = State, Signal
TRANSITIONS = MappingProxyType(
    {
        (_S.IDLE, _G.START): _S.HANDSHAKE,
        (_S.HANDSHAKE, _G.SECURED): _S.SIGN_IN,
        (_S.SIGN_IN, _G.ANSWERED): _S.ADDRESSES,
        (_S.ADDRESSES, _G.GRANTED): _S.UP,
        # Only a tunnel that was up is made again; the connection may be lost at any step of that.
        **{(state, _G.LOSE): _S.LOST for state in (_S.HANDSHAKE, _S.SIGN_IN, _S.ADDRESSES, _S.UP)},
        (_S.LOST, _G.START): _S.HANDSHAKE,
        **{(state, _G.END): _S.ENDED for state in _S},
    }
)
"""Anything that is not in this table is a fault of the program."""
