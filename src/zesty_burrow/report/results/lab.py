"""The simulated internet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from zesty_burrow.report.results.base import Result


@dataclass(frozen=True)
class LabResult(Result):
    """``lab start`` and ``lab status``."""

    status: dict[str, Any]
    kit: str
    shown_by: ClassVar[str] = "lab"
    kind: ClassVar[str] = "lab"
