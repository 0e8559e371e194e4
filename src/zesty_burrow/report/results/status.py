"""A tunnel, and the guard, as they are now."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import (
    EXIT_BLOCKED,
    EXIT_DOWN,
    EXIT_LEFT_OVER,
    EXIT_PARTIAL,
    Result,
)
from zesty_burrow.use_cases.tunnel.status import Condition

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.finding import Finding
    from zesty_burrow.host.guard.state import GuardState
    from zesty_burrow.use_cases.overview import Overview


_CODES = {
    Condition.UP: 0,
    Condition.PARTIAL: EXIT_PARTIAL,
    Condition.BLOCKED: EXIT_BLOCKED,
    Condition.DOWN: EXIT_DOWN,
    Condition.LEFT_OVER: EXIT_LEFT_OVER,
}


@dataclass(frozen=True)
class StatusResult(Result):
    """``status``; ``tunnel`` is None where none is up. ``network`` and ``log`` only if they were asked for.

    ``state``: of the tunnel's process, empty without one. ``guard``: None if nobody holds it closed.
    ``others``: tunnels beside it.
    """

    tunnel: TunnelStatus | None
    state: str
    condition: Condition
    guard: GuardState | None = None
    findings: tuple[Finding, ...] = ()
    network: tuple[str, ...] | None = None
    log: tuple[dict[str, Any], ...] | None = None
    others: tuple[TunnelStatus, ...] = ()
    shown_by: ClassVar[str] = "status"
    kind: ClassVar[str] = "status"

    @property
    def exit_code(self) -> int:
        return _CODES[self.condition]

    def content(self) -> dict[str, Any]:
        document: dict[str, Any] = {
            "condition": str(self.condition),
            "tunnel": self.tunnel.document() if self.tunnel else None,
            "others": [other.document() for other in self.others],
            "state": self.state,
            "guard": self.guard.document() if self.guard else None,
            "findings": [entry.document() for entry in self.findings],
        }
        document |= {} if self.network is None else {"network": list(self.network)}
        return document if self.log is None else {**document, "log": list(self.log)}


@dataclass(frozen=True)
class LineResult(Result):
    """``status --line``; the exit code is that of the status."""

    text: str
    code: int
    shown_by: ClassVar[str] = "status"
    kind: ClassVar[str] = "line"

    @property
    def exit_code(self) -> int:
        return self.code

    def content(self) -> dict[str, Any]:
        return {"line": self.text}


@dataclass(frozen=True)
class GuardResult(Result):
    """``guard``: what it lets through, and what it has counted. ``message``: what was done."""

    guard: GuardState
    message: str = ""
    findings: tuple[Finding, ...] = ()
    shown_by: ClassVar[str] = "status"
    kind: ClassVar[str] = "guard"

    def content(self) -> dict[str, Any]:
        return {
            "message": self.message,
            "guard": {**self.guard.document(), "lets_through": self.guard.lets_through()},
            "findings": [entry.document() for entry in self.findings],
        }


@dataclass(frozen=True)
class OverviewResult(Result):
    """``zesty`` alone."""

    seen: Overview
    shown_by: ClassVar[str] = "status"
    kind: ClassVar[str] = "overview"

    def content(self) -> dict[str, Any]:
        seen = self.seen
        verified = dict(zip(("taken_at", "profile", "verdict"), seen.verified, strict=True)) if seen.verified else None
        return {
            "store": {"path": seen.store, "profiles": seen.profiles, "devices": seen.devices},
            "tunnels": [{"profile": one.profile, "state": one.state, "place": one.place} for one in seen.tunnels],
            "left_over": seen.left_over,
            "others": list(seen.others),
            "guard": seen.guard,
            "verified": verified,
            "next": [{"command": step.command, "does": step.does} for step in seen.steps],
        }
