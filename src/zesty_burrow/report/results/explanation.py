"""What the code of a finding or error means."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.core.finding import Code


@dataclass(frozen=True)
class ExplainResult(Result):
    """``explain``."""

    codes: tuple[Code, ...]
    shown_by: ClassVar[str] = "explanation"
    kind: ClassVar[str] = "explanation"

    def content(self) -> dict[str, Any]:
        return {"codes": [{**asdict(entry), "severity": str(entry.severity)} for entry in self.codes]}
