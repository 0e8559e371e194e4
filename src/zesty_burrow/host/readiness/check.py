"""What a check of this machine has found. Values only."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from zesty_burrow.records import asdict, dataclass


class Readiness(StrEnum):
    READY = "ready"
    ATTENTION = "attention"
    MISSING = "missing"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class ReadinessCheck:
    """One thing that a tunnel needs, or that gets in its way.

    ``found``: what was seen; ``why``: why it matters; ``remedy``: what to do, in words; ``command``: what does it here,
    or nothing where a person has to.
    """

    name: str
    state: Readiness
    found: str
    why: str = ""
    remedy: str = ""
    command: tuple[str, ...] = ()

    def document(self) -> dict[str, Any]:
        return {**asdict(self), "state": str(self.state), "command": list(self.command)}
