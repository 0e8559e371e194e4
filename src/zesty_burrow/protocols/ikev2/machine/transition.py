"""A row of a table of states: what handles a signal, and where that may lead."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Generic, TypeVar

S = TypeVar("S", bound=StrEnum)


@dataclass(frozen=True, slots=True)
class Transition(Generic[S]):
    """The method that handles a signal in a state, and the states that it may lead to."""

    handler: str
    targets: frozenset[S]


def to(handler: str, *targets: S) -> Transition[S]:
    """A row."""
    return Transition(handler, frozenset(targets))
