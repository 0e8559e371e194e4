"""One profile."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.core.finding import Finding
    from zesty_burrow.core.profile import Profile


@dataclass(frozen=True)
class ShowResult(Result):
    """``show``; ``credentials``: what would be used, by kind, and what is missing; never a secret."""

    profile: Profile
    imported_at: str
    origin: str
    whom: str
    credentials: tuple[dict[str, str], ...]
    findings: tuple[Finding, ...]
    revocation_lists: tuple[str, ...] = ()
    shown_by: ClassVar[str] = "profile"
    kind: ClassVar[str] = "profile"

    def content(self) -> dict[str, Any]:
        import tomllib

        from zesty_burrow.profiles.text import write_profile

        return {
            "profile": tomllib.loads(write_profile(self.profile)),
            "imported_at": self.imported_at,
            "origin": self.origin,
            "for": self.whom,
            "revocation_lists": list(self.revocation_lists),
            "credentials": list(self.credentials),
            "findings": [entry.document() for entry in self.findings],
        }


@dataclass(frozen=True)
class CreateResult(Result):
    """``create``; ``missing``: the kind of credentials that it still needs; ``slips``: what they may hold."""

    profile: Profile
    text: str
    findings: tuple[Finding, ...]
    missing: str
    slips: tuple[str, ...]
    shown_by: ClassVar[str] = "profile"
    kind: ClassVar[str] = "created"

    def content(self) -> dict[str, Any]:
        import tomllib

        return {
            "profile": tomllib.loads(self.text),
            "findings": [entry.document() for entry in self.findings],
            "missing": self.missing,
            "slips": list(self.slips),
        }
