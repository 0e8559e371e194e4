"""Findings: something noticed about a kit, profile, certificate, machine or tunnel."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_burrow.core.codes import devices, errors, kits, machine, profiles
from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.errors import printable
from zesty_burrow.records import dataclass

__all__ = ["CODES", "Code", "Finding", "Severity", "finding"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One occurrence: ``subject`` names the thing, ``detail`` what was seen."""

    code: Code
    subject: str
    detail: str = ""

    @property
    def severity(self) -> Severity:
        return self.code.severity

    def document(self) -> dict[str, str]:
        return {
            "code": self.code.slug,
            "severity": str(self.code.severity),
            "subject": self.subject,
            "detail": self.detail,
            "title": self.code.title,
            "remedy": self.code.remedy,
        }


CODES: dict[str, Code] = {
    entry.slug: entry for group in (kits, profiles, machine, devices, errors) for entry in group.CODES
}


def register_codes(codes: Iterable[Code]) -> None:
    """Add codes of a protocol's own."""
    CODES.update({code.slug: code for code in codes})


def finding(slug: str, subject: str, detail: str = "") -> Finding:
    """A finding with the code of that slug."""
    return Finding(CODES[slug], printable(subject), printable(detail))
