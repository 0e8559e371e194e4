"""Tables of states: what handles a signal in which state, where that may lead, and the machine that follows one."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from operator import attrgetter
from typing import Generic, TypeVar

from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.protocols.ikev2.wire.message import Message
from zesty_burrow.records import dataclass

S = TypeVar("S", bound=StrEnum)
G = TypeVar("G", bound=StrEnum)


@dataclass(frozen=True, slots=True)
class Transition(Generic[S]):
    """The handler of a signal in a state, by its path from the machine's owner, and the states it may lead to.

    Handlers take the message, or None where the signal is not one, and the time; they return the next state.
    """

    handler: str
    targets: frozenset[S]


def to(handler: str, *targets: S) -> Transition[S]:
    return Transition(handler, frozenset(targets))


class StateMachine(Generic[S, G]):
    """Follows a table. ``owner``: the object that the table's handlers are parts of."""

    def __init__(self, table: Mapping[tuple[S, G], Transition[S]], first: S, owner: object) -> None:
        self.state = first
        self._table = table
        self._owner = owner

    def signal(self, signal: G, message: Message | None, now: float) -> None:
        """Let a signal do its work. Raises :class:`Malformed` for a message that has no place in this state."""
        transition = self._table.get((self.state, signal))
        if transition is None:
            if message is None:
                raise ProgramFault(f"{signal} is not possible while {self.state}")
            raise Malformed("a message is out of place", why=f"{signal} while {self.state}")
        before = self.state
        after: S = attrgetter(transition.handler)(self._owner)(message, now)
        if after not in transition.targets:
            raise ProgramFault(f"{signal} led from {before} to {after}")
        self.state = after
