"""What a code is."""

from __future__ import annotations

from enum import StrEnum

from zesty_burrow.records import dataclass


class Severity(StrEnum):
    """How much a finding matters."""

    NOTE = "note"
    WARNING = "warning"
    SERIOUS = "serious"


@dataclass(frozen=True, slots=True)
class Code:
    """A stable code with its meaning; ``explain`` prints it."""

    slug: str
    severity: Severity
    title: str
    why: str
    remedy: str
    reference: str = ""
