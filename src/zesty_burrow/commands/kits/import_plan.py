"""How the profiles and credentials of kits stand to what is in the store, and what is to be done with each."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from zesty_burrow.commands.context import Context
from zesty_burrow.core.credentials import Credentials, NamePassword, Scope, kind_of
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import UsageError
from zesty_burrow.intake.kit import FoundCredentials, FoundProfile, Kit
from zesty_burrow.profiles.compare import Difference, Relation, differences, relation
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.report.result import ProfileDifference

if TYPE_CHECKING:
    from zesty_burrow.store.store import CredentialsRow, Store

KEEP, REPLACE, BOTH, ASK = "keep", "replace", "both", "ask"
FINDINGS = {
    Relation.NEWER: "profile-newer",
    Relation.OLDER: "profile-older",
    Relation.CHANGED: "profile-changed",
    Relation.CLASH: "profile-clash",
}
SHOWN = 4
"""Differences that a finding names; the difference view shows all."""


@dataclass
class ImportPlan:
    """``choice``: what to do with a profile that differs from one of its name. ``store`` None: there is none yet.

    ``quiet_default``: nobody said ``--keep``; profiles are kept then, but newer credentials are taken.
    """

    store: Store | None
    context: Context
    choice: str = KEEP
    quiet_default: bool = False
    taken: dict[str, tuple[Profile, str, str]] = field(default_factory=dict)
    replacing: set[str] = field(default_factory=set)
    secrets: list[tuple[Scope, Credentials, str]] = field(default_factory=list)
    outcomes: dict[str, str] = field(default_factory=dict)
    findings: list[Finding] = field(default_factory=list)
    differences: list[ProfileDifference] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._known = self.store.digests() if self.store else {}
        self._names = {content: name for name, content in self._known.items()}
        self._for_all: dict[Relation, str] = {}

    def take(self, kits: Iterable[Kit]) -> None:
        """Sort everything in some kits."""
        for kit in kits:
            self.take_profiles(kit)
            for entry in kit.credentials:
                self._take_credentials(entry, kit.origin)

    def take_profiles(self, kit: Kit) -> None:
        """Sort a kit's profiles alone."""
        for found in kit.profiles:
            self._take_profile(found, kit.origin)

    def _take_profile(self, found: FoundProfile, origin: str) -> None:
        name = found.profile.name
        same = name if self._known.get(name) == found.digest else self._names.get(found.digest, "")
        if same:
            self.outcomes.setdefault(name, "there already" if same == name else f"there already as {same}")
            self.findings.append(finding("profile-same", name, "" if same == name else f"it is called {same} here"))
        elif name not in self._known:
            self._put(name, found.profile, found.text, found.digest, origin, "new")
        else:
            self._settle(found, origin)

    def _put(self, name: str, profile: Profile, text: str, content: str, origin: str, outcome: str) -> None:
        self.outcomes[profile.name if outcome == "new" else name] = outcome
        self.taken[profile.name] = profile, text, origin
        self._known[profile.name] = content
        self._names.setdefault(content, profile.name)

    def _settle(self, found: FoundProfile, origin: str) -> None:
        """A profile of that name is there and differs."""
        name = found.profile.name
        before_text = self._text(name)
        before = read_profile(before_text, f"profile {name}")
        kind = relation(before, found.profile)
        changes = differences(before_text, found.text)
        self.differences.append(ProfileDifference(name, str(kind), tuple(changes)))
        choice = self._choose(name, kind, changes)
        words = _words(changes)
        if choice == REPLACE:
            profile = replace(found.profile, tags=tuple(dict.fromkeys((*before.tags, *found.profile.tags))))
            text = write_profile(profile) if profile.tags else found.text
            self._put(name, profile, text, found.digest, origin, "replaced")
            self.replacing.add(name)
            self.findings.append(finding("profile-replaced", name, words))
        elif choice == BOTH:
            other = replace(found.profile, name=self._free_name(name))
            self._put(name, other, write_profile(other), found.digest, origin, f"taken as {other.name}")
            self.findings.append(finding("profile-both", name, f"it is now {other.name}"))
        else:
            self.outcomes.setdefault(name, "left out")
            self.findings.append(finding(FINDINGS[kind], name, words))

    def _text(self, name: str) -> str:
        if name in self.taken:
            return self.taken[name][1]
        return self.store.profile_texts([name])[0] if self.store else ""

    def _free_name(self, name: str) -> str:
        number = 2
        while f"{name[:60]}-{number}" in self._known:
            number += 1
        return f"{name[:60]}-{number}"

    def _choose(self, name: str, kind: Relation, changes: list[Difference]) -> str:
        if self.choice != ASK:
            return self.choice
        if kind in self._for_all:
            return self._for_all[kind]
        self.context.reporter.difference(ProfileDifference(name, str(kind), tuple(changes)))
        letters = {"k": KEEP, "r": REPLACE, "b": BOTH}
        while True:
            answer = self.context.reporter.ask(
                "Keep the old one, replace it, or both? k, r, b; in capitals for all of this kind [k] "
            )
            chosen = letters.get((answer or "k").casefold()[:1])
            if chosen:
                if answer[:1].isupper():
                    self._for_all[kind] = chosen
                return chosen

    # Credentials.

    def _take_credentials(self, entry: FoundCredentials, origin: str) -> None:
        kind = kind_of(entry.value)
        known = [row for row in self._kept() if row.scope == entry.scope and row.kind == kind]
        if known and self.store is not None:
            before = self.store.open_credentials(known[0])
            if before == entry.value:
                return
            slug = "credentials-kept" if self.choice == KEEP and not self.quiet_default else "credentials-replaced"
            self.findings.append(finding(slug, str(entry.scope), _secret_difference(before, entry.value)))
            if slug == "credentials-kept":
                return
        self.secrets.append((entry.scope, entry.value, origin))

    def _kept(self) -> list[CredentialsRow]:
        return self.store.list_credentials() if self.store else []


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


def choice_of(keep: bool, put: bool, both: bool) -> tuple[str, bool]:
    """What the words of the command line choose, and whether it is only the default where nobody can be asked."""
    chosen = [word for word, said in ((KEEP, keep), (REPLACE, put), (BOTH, both)) if said]
    if len(chosen) > 1:
        raise UsageError("say only one of --keep, --replace and --both")
    if chosen:
        return chosen[0], False
    return (ASK, False) if sys.stdin.isatty() and sys.stderr.isatty() else (KEEP, True)
