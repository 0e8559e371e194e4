"""A tunnel that came up or has ended."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import EXIT_INTERRUPTED, EXIT_PARTIAL, Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.carrier.supervision.options import TunnelEnd
    from zesty_burrow.host.journal.journal import Restored


EXIT_BY_SIGNAL = {"signal SIGINT": EXIT_INTERRUPTED, "signal SIGTERM": 143, "signal SIGHUP": 129}
"""128 and the signal's number, as shells have it; a unit of systemd starts the tunnel again after these."""


@dataclass(frozen=True)
class UpResult(Result):
    """``connect`` in the background: the tunnel is up; ``beside``: others are as well."""

    status: TunnelStatus
    beside: bool = False
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "up"

    @property
    def exit_code(self) -> int:
        return EXIT_PARTIAL if self.status.is_partial else 0

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
        return EXIT_BY_SIGNAL.get(self.end.reason, 0)

    def content(self) -> dict[str, Any]:
        return {
            "tunnel": self.status.document(),
            "reason": self.end.reason,
            "restored": list(self.end.restored.done),
            "left_alone": list(self.end.restored.left_alone),
            "closed": self.end.closed,
        }


@dataclass(frozen=True)
class DisconnectResult(Result):
    """``disconnect``: what was put back, and what another program had changed and was left alone.

    ``told``: whether the tunnel's process reported its end. ``was_up``: there was a tunnel, not only a closed guard.
    ``closed``: whether the guard is still closed, by whom. ``others``: further tunnels that the same call has ended.
    """

    profile: str
    restored: tuple[str, ...] = ()
    left_alone: tuple[str, ...] = ()
    told: bool = True
    was_up: bool = True
    closed: tuple[str, ...] = ()
    others: tuple[DisconnectResult, ...] = ()
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "disconnected"

    def content(self) -> dict[str, Any]:
        return {
            "profile": self.profile,
            "restored": list(self.restored),
            "left_alone": list(self.left_alone),
            "told": self.told,
            "was_up": self.was_up,
            "closed": list(self.closed),
            "others": [other.content() for other in self.others],
        }


@dataclass(frozen=True)
class RestoreResult(Result):
    """``restore``. ``opened``: whose hold of the guard was ended; ``put_back``: it was missing and is set again."""

    restored: Restored
    opened: tuple[str, ...] = ()
    put_back: bool = False
    shown_by: ClassVar[str] = "tunnel"
    kind: ClassVar[str] = "restored"

    def content(self) -> dict[str, Any]:
        return {
            "done": list(self.restored.done),
            "left_alone": list(self.restored.left_alone),
            "opened": list(self.opened),
            "put_back": self.put_back,
        }
