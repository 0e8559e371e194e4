"""What a data path does by choice, and limits that both of its directions know."""

from __future__ import annotations

from dataclasses import dataclass

LONGEST = 65535
SHORT = 128
"""Octets: a TCP packet that opens a connection is never longer."""


@dataclass(frozen=True, slots=True)
class Habits:
    """``dscp``: of the outer header, None as the inner has it; ``clamp``: whether TCP is told what fits."""

    dscp: int | None = 0
    clamp: bool = False
