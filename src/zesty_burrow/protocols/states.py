"""Tables of states: which signal leads from which state to which; and the machine that follows one."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Generic, TypeVar

from zesty_burrow.errors import ProgramFault

S = TypeVar("S", bound=StrEnum)
G = TypeVar("G", bound=StrEnum)


class StateTable(Generic[S, G]):
    """``state`` changes only as the table says."""

    def __init__(self, table: Mapping[tuple[S, G], S], first: S) -> None:
        self.state = first
        self._table = table

    def allows(self, signal: G) -> bool:
        """Whether the table has a next state: to be asked where a stranger's messages decide."""
        return (self.state, signal) in self._table

    def follow(self, signal: G) -> S:
        """Go to the next state. Raises :class:`ProgramFault` if the table has none for the signal in this state."""
        after = self._table.get((self.state, signal))
        if after is None:
            raise ProgramFault(f"{signal} is not possible while {self.state}")
        self.state = after
        return after
