"""What a kit holds, and what a portal offers."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import asdict, dataclass, field
from zesty_burrow.report.results.base import EXIT_NOTHING, Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.core.finding import Code, Finding
    from zesty_burrow.intake.import_plan import ProfileDifference
    from zesty_burrow.intake.kit import Kit


@dataclass(frozen=True)
class KitResult(Result):
    """``inspect`` and ``import``; ``outcomes``: what became of each profile in the store.

    ``asked``: the user has seen the differences and has chosen.
    """

    kit: Kit
    imported: bool
    outcomes: dict[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    differences: tuple[ProfileDifference, ...] = ()
    asked: bool = False
    whom: str = ""
    shown_by: ClassVar[str] = "kits"
    kind: ClassVar[str] = "kit"

    @property
    def exit_code(self) -> int:
        """As an import of it would end, where there is nothing to import."""
        return EXIT_NOTHING if self.kit.is_empty else 0

    @property
    def missing(self) -> tuple[str, ...]:
        """What a profile cannot do without and no file has, in words."""
        if self.kit.profiles:
            return ()
        found = ["where a gateway is: its host name or address, as in a line `Server: vpn.example`"]
        if not self.kit.credentials:
            found.append("how to sign in: an account and its password, a key with its certificate, or a shared secret")
        if not any(certificate.is_authority for certificate in self.kit.certificates):
            found.append("what the gateway proves itself by: its authority's certificate")
        return tuple(found)

    def content(self) -> dict[str, Any]:
        from zesty_burrow.core.credentials import kind_of

        return {
            "imported": self.imported,
            "certificates": [asdict(certificate) for certificate in self.kit.certificates],
            "missing": list(self.missing),
            "profiles": [
                {
                    "name": entry.profile.name,
                    "provider": entry.profile.provider,
                    "country": entry.profile.country,
                    "city": entry.profile.city,
                    "protocol": entry.profile.tunnel.protocol,
                    "over": entry.profile.settings.over(),
                    "digest": entry.digest,
                    "path": entry.path,
                    "outcome": self.outcomes.get(entry.profile.name, ""),
                }
                for entry in self.kit.profiles
            ],
            "credentials": [
                {
                    "label": entry.scope.label,
                    "device": entry.scope.device,
                    "profile": entry.scope.profile,
                    "kind": str(kind_of(entry.value)),
                    "path": entry.path,
                }
                for entry in self.kit.credentials
            ],
            "files": [
                {"path": item.path, "kind": str(item.kind), "taken": item.taken, "why": item.why}
                for item in self.kit.items
            ],
            "differences": [
                {
                    "name": difference.name,
                    "relation": str(difference.relation),
                    "changes": [asdict(change) for change in difference.changes],
                }
                for difference in self.differences
            ],
            "findings": [entry.document() for entry in self.findings],
        }


@dataclass(frozen=True)
class PlacesResult(Result):
    """``portal``: what a provider's portal offers."""

    portal: str
    places: tuple[dict[str, Any], ...]
    recommended: str
    reason: str
    shown_by: ClassVar[str] = "kits"
    kind: ClassVar[str] = "places"


@dataclass(frozen=True)
class ExplainResult(Result):
    """``explain``."""

    codes: tuple[Code, ...]
    shown_by: ClassVar[str] = "kits"
    kind: ClassVar[str] = "explanation"

    def content(self) -> dict[str, Any]:
        return {"codes": [{**asdict(entry), "severity": str(entry.severity)} for entry in self.codes]}
