"""What was found in the files of a kit, before anything is assembled."""

from __future__ import annotations

from collections.abc import Mapping

from cryptography import x509

from zesty_burrow.core.certificates.revocation import Revocations
from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import printable
from zesty_burrow.intake.kit import FoundCredentials, Item
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.certificates import CertificateFacts, facts_of
from zesty_burrow.intake.readers.keys import FoundKey
from zesty_burrow.intake.recognise import FileKind
from zesty_burrow.records import dataclass, field


@dataclass(frozen=True, slots=True)
class RawProfile:
    """A profile as it is in the kit; ``by_template`` where the kit's own words left parts of it open."""

    path: str
    member: KitFile
    profile: Profile
    by_template: bool = False


@dataclass(frozen=True, slots=True)
class RawSecret:
    """Credentials as they are in the kit; ``owner``: the path of the profile that they came with."""

    member: KitFile
    value: Credentials
    owner: str = ""


@dataclass(frozen=True, slots=True)
class CertificateFile:
    """A file of certificates; ``pem`` holds all of them."""

    member: KitFile
    pem: str
    certificates: tuple[x509.Certificate, ...]

    def facts(self) -> tuple[CertificateFacts, ...]:
        """What a person compares them by."""
        return tuple(facts_of(self.member.path, certificate) for certificate in self.certificates)


@dataclass(slots=True)
class Record:
    """What became of each file, as one step of the intake tells it."""

    items: list[Item] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    def leave(self, member: KitFile, kind: FileKind, slug: str, detail: str = "") -> None:
        """A file that is not taken, and why."""
        entry = finding(slug, member.path, detail)
        self.findings.append(entry)
        self.items.append(Item(member.path, kind, taken=False, why=printable(detail) or entry.code.title))

    def keep(self, path: str, kind: FileKind, why: str) -> None:
        """A file that is taken."""
        self.items.append(Item(path, kind, taken=True, why=printable(why)))

    def pass_over(self, path: str, kind: FileKind, why: str) -> None:
        """A file that is not taken, where no finding is needed to say why."""
        self.items.append(Item(path, kind, taken=False, why=printable(why)))

    def fault(self, member: KitFile, kind: FileKind, problem: Exception) -> None:
        """The last guard: a file at which this program itself failed. The others go on."""
        self.leave(member, kind, "kit-unreadable", f"an error in this program ({type(problem).__name__})")


@dataclass(frozen=True, slots=True)
class Found:
    """Everything in a kit's files, by what it is.

    ``copies``: files that are left out for being the same as an earlier one, by their paths; with the earlier one's.
    ``labelled``: credentials that say themselves whom they are for. ``providers``: what sheets say, by their group.
    """

    profiles: tuple[RawProfile, ...]
    certificates: Mapping[str, CertificateFile]
    copies: Mapping[str, str]
    keys: tuple[tuple[KitFile, FoundKey], ...]
    lists: tuple[tuple[KitFile, Revocations], ...]
    secrets: tuple[RawSecret, ...]
    labelled: tuple[FoundCredentials, ...]
    providers: Mapping[str, str]
    record: Record
