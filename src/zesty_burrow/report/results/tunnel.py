"""A tunnel that came up or has ended."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.report.results.base import EXIT_INTERRUPTED, Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.carrier.supervisor import TunnelEnd
    from zesty_burrow.host.journal.journal import Restored


@dataclass(frozen=True)
class UpResult(Result):
    """``connect`` in the background: the tunnel is up."""

    status: TunnelStatus
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "up"

    def content(self) -> dict[str, Any]:
        return {"tunnel": self.status.document()}


@dataclass(frozen=True)
class EndResult(Result):
    """A tunnel that was in the foreground has ended."""

    status: TunnelStatus
    end: TunnelEnd
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "ended"

    @property
    def exit_code(self) -> int:
        return EXIT_INTERRUPTED if self.end.reason == "signal SIGINT" else 0

    def content(self) -> dict[str, Any]:
        return {
            "tunnel": self.status.document(),
            "reason": self.end.reason,
            "restored": list(self.end.restored.done),
            "left_alone": list(self.end.restored.left_alone),
        }


@dataclass(frozen=True)
class DisconnectResult(Result):
    """``disconnect``: what was put back, and what another program had changed and was left alone.

    ``told``: whether the tunnel's process has said so.
    """

    profile: str
    restored: tuple[str, ...] = ()
    left_alone: tuple[str, ...] = ()
    told: bool = True
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "disconnected"


@dataclass(frozen=True)
class RestoreResult(Result):
    """``restore``."""

    restored: Restored
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "restored"

    def content(self) -> dict[str, Any]:
        return {"done": list(self.restored.done), "left_alone": list(self.restored.left_alone)}
