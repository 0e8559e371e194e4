"""A tunnel as it is now."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.report.results.base import Result, finding_document

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.finding import Finding


@dataclass(frozen=True)
class StatusResult(Result):
    """``status``; ``tunnel`` is None where none is up. ``network`` and ``log`` only if they were asked for."""

    tunnel: TunnelStatus | None
    state: str
    findings: tuple[Finding, ...] = ()
    network: tuple[str, ...] | None = None
    log: tuple[dict[str, Any], ...] | None = None
    shown_by: ClassVar[str] = "status"
    kind: ClassVar[str] = "status"

    def content(self) -> dict[str, Any]:
        document: dict[str, Any] = {
            "tunnel": self.tunnel.document() if self.tunnel else None,
            "state": self.state,
            "findings": [finding_document(entry) for entry in self.findings],
        }
        document |= {} if self.network is None else {"network": list(self.network)}
        return document if self.log is None else {**document, "log": list(self.log)}
