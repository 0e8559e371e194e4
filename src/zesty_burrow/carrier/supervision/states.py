"""The states of a tunnel's supervisor, what can happen to it, and the table of what leads where."""

from __future__ import annotations

import logging
from enum import StrEnum
from types import MappingProxyType

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.protocols.states import StateTable

log = logging.getLogger(__name__)


class TunnelState(StrEnum):
    """The state of the tunnel."""

    DOWN = "down"
    RESOLVING = "resolving"
    REACHING = "reaching"
    SIGNING_IN = "signing in"
    UP = "up"
    LOST = "lost"
    RETURNING = "returning"
    ENDING = "ending"


class TunnelSignal(StrEnum):
    """What can happen to it."""

    START = "start"
    RESOLVED = "addresses known"
    REACHED = "the gateway answers"
    CONFIGURED = "this machine is configured"
    NEXT = "next address"
    FAILED = "no tunnel"
    LOSE = "the tunnel is lost"
    RETRY = "try again"
    END = "end"
    ENDED = "restored"


_S, _G = TunnelState, TunnelSignal
TRANSITIONS = MappingProxyType(
    {
        (_S.DOWN, _G.START): _S.RESOLVING,
        (_S.RESOLVING, _G.RESOLVED): _S.REACHING,
        (_S.REACHING, _G.REACHED): _S.SIGNING_IN,
        (_S.REACHING, _G.NEXT): _S.REACHING,
        (_S.SIGNING_IN, _G.NEXT): _S.REACHING,
        (_S.SIGNING_IN, _G.CONFIGURED): _S.UP,
        (_S.UP, _G.LOSE): _S.LOST,
        (_S.UP, _G.NEXT): _S.RETURNING,
        (_S.LOST, _G.RETRY): _S.RETURNING,
        (_S.RETURNING, _G.REACHED): _S.RETURNING,
        (_S.RETURNING, _G.NEXT): _S.RETURNING,
        (_S.RETURNING, _G.CONFIGURED): _S.UP,
        (_S.RETURNING, _G.FAILED): _S.LOST,
        **{(state, _G.END): _S.ENDING for state in _S if state is not _S.DOWN},
        # With an explicit --keep-trying a gateway that is not reached at first is tried again.
        **{(state, _G.FAILED): _S.LOST for state in (_S.RESOLVING, _S.REACHING, _S.SIGNING_IN)},
        (_S.ENDING, _G.NEXT): _S.ENDING,
        (_S.ENDING, _G.REACHED): _S.ENDING,
        (_S.ENDING, _G.ENDED): _S.DOWN,
    }
)
"""Anything that is not in this table is a fault of the program."""


class StateMachine(StateTable[TunnelState, TunnelSignal]):
    """The supervisor's; each change is in the log."""

    def __init__(self) -> None:
        super().__init__(TRANSITIONS, TunnelState.DOWN)

    def signal(self, signal: TunnelSignal) -> TunnelState:
        """Follow a signal; the new state. Raises :class:`ProgramFault` if the table has none."""
        before = self.state
        after = self.follow(signal)
        note(log, logging.DEBUG, "state", was=str(before), signal=str(signal), now=str(after))
        return after
