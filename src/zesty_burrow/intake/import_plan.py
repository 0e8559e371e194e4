"""How a kit's profiles and credentials compare with what is kept, and what is to be done with each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from zesty_burrow.core.credentials import Credentials, NamePassword, kind_of
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import CredentialsKind, Scope
from zesty_burrow.intake.kit import FoundCredentials, FoundProfile, Kit
from zesty_burrow.profiles.compare import Difference, Relation, differences, relation
from zesty_burrow.profiles.text import content_digest, read_profile, write_profile
from zesty_burrow.records import dataclass, field, replace

KEEP, REPLACE, BOTH = "keep", "replace", "both"
FINDINGS = {
    Relation.NEWER: "profile-newer",
    Relation.OLDER: "profile-older",
    Relation.CHANGED: "profile-changed",
    Relation.CLASH: "profile-clash",
}
SHOWN = 4
"""Differences that a finding names; the difference view shows all."""


@dataclass(frozen=True, slots=True)
class ProfileDifference:
    """How a profile of a kit compares with the one of its name that is kept, and what differs."""

    name: str
    relation: Relation
    changes: tuple[Difference, ...]


class Kept(Protocol):
    """What a plan asks of a store."""

    def digests(self) -> dict[str, str]:
        """The names that exist, each with its content's digest."""

    def profile_texts(self, names: list[str]) -> list[str]:
        """The texts of profiles."""

    def find_credentials(self, scope: Scope, kind: CredentialsKind) -> Credentials | None:
        """What is kept for exactly this scope."""

    def worked_at(self, scope: Scope, kind: CredentialsKind) -> str:
        """When a gateway has accepted that last (RFC 3339), or an empty text."""

    def editions_of(self, provider: str) -> list[tuple[str, str]]:
        """Names and texts of a provider's profiles, where it has not too many of them."""


@dataclass(frozen=True, slots=True)
class NewProfile:
    """A profile that is to be stored."""

    profile: Profile
    text: str
    digest: str
    origin: str

    @classmethod
    def of(cls, profile: Profile, origin: str) -> NewProfile:
        """A profile that was not read from a kit."""
        text = write_profile(profile)
        return cls(profile, text, content_digest(profile, text), origin)


@dataclass(frozen=True, slots=True)
class CredentialsDifference:
    """Credentials of a kit, and those that are kept; ``worked_at``: when a gateway has accepted these last."""

    entry: FoundCredentials
    before: Credentials
    worked_at: str

    @property
    def words(self) -> str:
        """Which parts changed, never what they are."""
        return _secret_difference(self.before, self.entry.value)


Decide = Callable[[ProfileDifference], str]
DecideCredentials = Callable[[CredentialsDifference], str]


@dataclass
class ImportPlan:
    """``decide``: ``KEEP``, ``REPLACE`` or ``BOTH`` for a profile that differs from one of its name.

    ``kept`` None: there is no store yet. ``decide_credentials``: ``KEEP`` or ``REPLACE`` for credentials that differ
    from those that are kept for the same.
    """

    kept: Kept | None
    decide: Decide
    decide_credentials: DecideCredentials = lambda _difference: REPLACE
    taken: dict[str, NewProfile] = field(default_factory=dict)
    replacing: set[str] = field(default_factory=set)
    secrets: list[tuple[Scope, Credentials, str]] = field(default_factory=list)
    outcomes: dict[str, str] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    differences: list[ProfileDifference] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._known = self.kept.digests() if self.kept else {}
        self._in_kit: set[str] = set()
        self._editions: dict[str, dict[Identity, Profile]] = {}
        self._names = {content: name for name, content in self._known.items()}

    def take(self, kit: Kit) -> None:
        """Sort everything in a kit."""
        self.take_profiles(kit)
        for entry in kit.credentials:
            self._take_credentials(entry)

    def take_profiles(self, kit: Kit) -> None:
        """Sort a kit's profiles alone."""
        self._in_kit = {found.profile.name for found in kit.profiles}
        for found in kit.profiles:
            self._take_profile(found)

    def _take_profile(self, profile: FoundProfile) -> None:
        name = profile.profile.name
        same = name if self._known.get(name) == profile.digest else self._names.get(profile.digest, "")
        if same:
            self.outcomes.setdefault(name, "already stored" if same == name else f"already stored as {same}")
            self.findings.append(finding("profile-same", name, "" if same == name else f"it is called {same} here"))
        elif name not in self._known and (older := self._other_edition(profile)):
            self._settle(profile, older)
        elif name not in self._known:
            self._put(name, NewProfile(profile.profile, profile.text, profile.digest, profile.origin), "new")
        else:
            self._settle(profile)

    def _put(self, name: str, made: NewProfile, outcome: str) -> None:
        own = made.profile.name
        self.outcomes[own if outcome == "new" else name] = outcome
        self.taken[own] = made
        self._known[own] = made.digest
        self._names.setdefault(made.digest, own)

    def _other_edition(self, found: FoundProfile) -> str:
        """The name of a stored profile that is another edition of this one: of one provider, for one gateway."""
        profile = found.profile
        if not self.kept or not profile.provider or not profile.edition:
            return ""
        if profile.provider not in self._editions:
            rows = [read_profile(text, f"profile {name}") for name, text in self.kept.editions_of(profile.provider)]
            self._editions[profile.provider] = {row.gateway_identity: row for row in rows if row.edition}
        other = self._editions[profile.provider].get(profile.gateway_identity)
        if other is None or other.name in self._in_kit or other.edition == profile.edition:
            return ""
        return other.name

    def _settle(self, found: FoundProfile, stored_as: str = "") -> None:
        """A profile of that name (or ``stored_as``: another edition under another name) is there and differs."""
        if stored_as:
            self.findings.append(finding("edition-renamed", found.profile.name, f"it is stored as {stored_as}"))
            named = replace(found.profile, name=stored_as)
            found = replace(found, profile=named, text=write_profile(named))
        name = found.profile.name
        before_text = self._text(name)
        before = read_profile(before_text, f"profile {name}")
        kind = relation(before, found.profile)
        changes = differences(before_text, found.text)
        difference = ProfileDifference(name, kind, tuple(changes))
        self.differences.append(difference)
        choice = self.decide(difference)
        words = _words(changes)
        if choice == REPLACE:
            profile = replace(found.profile, tags=tuple(dict.fromkeys((*before.tags, *found.profile.tags))))
            text = write_profile(profile) if profile.tags else found.text
            self._put(name, NewProfile(profile, text, found.digest, found.origin), "replaced")
            self.replacing.add(name)
            self.findings.append(finding("profile-replaced", name, words))
        elif choice == BOTH:
            other = replace(found.profile, name=self._free_name(name))
            made = NewProfile(other, write_profile(other), found.digest, found.origin)
            self._put(name, made, f"taken as {other.name}")
            self.findings.append(finding("profile-both", name, f"it is now {other.name}"))
        else:
            self.outcomes.setdefault(name, "left out")
            self.findings.append(finding(FINDINGS[kind], name, words))

    def _text(self, name: str) -> str:
        if name in self.taken:
            return self.taken[name].text
        return self.kept.profile_texts([name])[0] if self.kept else ""

    def _free_name(self, name: str) -> str:
        number = 2
        while f"{name[:60]}-{number}" in self._known:
            number += 1
        return f"{name[:60]}-{number}"

    # Credentials.

    def _take_credentials(self, entry: FoundCredentials) -> None:
        before = self.kept.find_credentials(entry.scope, kind_of(entry.value)) if self.kept else None
        if before == entry.value:
            return
        if before is not None and self.kept is not None:
            worked_at = self.kept.worked_at(entry.scope, kind_of(entry.value))
            difference = CredentialsDifference(entry, before, worked_at)
            keep = self.decide_credentials(difference) == KEEP
            words = difference.words + (f"; those that are kept were accepted on {worked_at[:10]}" if worked_at else "")
            self.findings.append(
                finding("credentials-kept" if keep else "credentials-replaced", str(entry.scope), words)
            )
            if keep:
                return
        self.secrets.append((entry.scope, entry.value, entry.origin))


def _words(changes: list[Difference]) -> str:
    more = f" and {len(changes) - SHOWN} more" if len(changes) > SHOWN else ""
    return "; ".join(map(str, changes[:SHOWN])) + more


def _secret_difference(before: Credentials, after: Credentials) -> str:
    """Which parts changed, never what they are."""
    if isinstance(before, NamePassword) and isinstance(after, NamePassword):
        parts = {
            "name": before.account != after.account,
            "password": before.password != after.password,
        }
        return ", ".join(f"the {part} {'is another' if changed else 'is the same'}" for part, changed in parts.items())
    return f"another {kind_of(after)}"
