"""A tunnel that came up or has ended."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.carrier.supervisor import TunnelEnd
    from zesty_burrow.host.journal import Restored


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

    def content(self) -> dict[str, Any]:
        return {
            "tunnel": self.status.document(),
            "reason": self.end.reason,
            "restored": list(self.end.restored.done),
            "left_alone": list(self.end.restored.left_alone),
        }


@dataclass(frozen=True)
class DisconnectResult(Result):
    """``disconnect``."""

    profile: str
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
