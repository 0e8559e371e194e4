"""Find profiles in the user's own store and the machine's; show one of them."""

from __future__ import annotations

from collections.abc import Container
from typing import TYPE_CHECKING

from zesty_burrow.records import dataclass

if TYPE_CHECKING:
    # Types alone: `list`, which scripts call often, must not wait for them.
    from datetime import datetime

    from zesty_burrow.core.finding import Finding
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.store.layered_store import LayeredStore
    from zesty_burrow.store.rows import ProfileRow
    from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class ProfileFilter:
    """Which profiles are meant; an empty field matches all. ``words``: each in name, place, provider, protocol or tags.

    ``place``: a city or country in any usual spelling, or its two letters.
    """

    words: tuple[str, ...] = ()
    place: str = ""
    provider: str = ""
    protocol: str = ""
    tag: str = ""

    @property
    def where(self) -> dict[str, str]:
        """The fields besides the words that are not empty."""
        fields = {"place": self.place, "provider": self.provider, "protocol": self.protocol, "tag": self.tag}
        return {name: value for name, value in fields.items() if value}

    @property
    def is_empty(self) -> bool:
        """Whether it matches every profile."""
        return not self.words and not self.where


@dataclass(frozen=True, slots=True)
class ListedProfile:
    """``store``: whose it is, ``me`` or ``machine``. ``lacks``: what it cannot connect without, in words."""

    row: ProfileRow
    store: str
    lacks: str


def list_profiles(wanted: ProfileFilter, workspace: Workspace) -> tuple[ListedProfile, ...]:
    """All profiles that match, in the order of their names."""
    with workspace.layered_store() as layered_store:
        rows = layered_store.list_profiles(wanted.words, **wanted.where)
        kept = {(row.kind, (row.label, row.profile)) for _, row in layered_store.list_credentials()}
    return tuple(ListedProfile(row, store, _lacking(row, kept)) for store, row in rows)


def _lacking(row: ProfileRow, kept: Container[tuple[str, tuple[str, str]]]) -> str:
    """``kept``: kinds of credentials with their label and profile."""
    missing = [
        kind
        for kind in row.needs.split(",")
        if kind
        and (kind, (row.label, "")) not in kept
        and (kind, (row.label, row.name)) not in kept
        and (kind, ("", row.name)) not in kept
    ]
    return ", ".join([*([row.lacks] if row.lacks else []), *missing])


@dataclass(frozen=True, slots=True)
class UsedCredentials:
    """Credentials that a profile needs or could use; without ``scope`` they are missing. No secret is in here."""

    kind: str
    is_needed: bool
    scope: str = ""
    domain: str = ""
    sealed_at: str = ""
    worked_at: str = ""
    origin: str = ""
    store: str = ""


@dataclass(frozen=True, slots=True)
class ShownProfile:
    """A profile with what was found out about it. ``store``: ``me`` or ``machine``."""

    profile: Profile
    imported_at: str
    origin: str
    store: str
    credentials: tuple[UsedCredentials, ...]
    findings: tuple[Finding, ...]
    revocation_lists: tuple[str, ...]


def show_profile(name: str, workspace: Workspace, device: str = "") -> ShownProfile:
    """One profile by its name, or by a city that only one profile has. ``device``: whose credentials (this one's).

    Raises :class:`NotFound` if there is no such profile.
    """
    from zesty_burrow.profiles.checks import check_profile
    from zesty_burrow.profiles.policy import judge_profile
    from zesty_burrow.profiles.trust_facts import revocation_list_ages

    with workspace.layered_store() as layered_store:
        profile, row, store = layered_store.find_profile(name)
        credentials = _credentials(layered_store, profile, device or workspace.device())
        facts_of = layered_store.trust_facts(store, (*profile.authorities, *profile.revocation_lists))
    now: datetime = workspace.now()
    findings = (*check_profile(profile, now, facts_of), *judge_profile(workspace.policy(), profile))
    lists = tuple(revocation_list_ages(profile, now, facts_of))
    return ShownProfile(profile, row.imported_at, row.origin, store, credentials, findings, lists)


def _credentials(layered_store: LayeredStore, profile: Profile, device: str) -> tuple[UsedCredentials, ...]:
    """Needed ones first."""
    chosen = layered_store.choose_credentials(profile, device)
    needed = [str(kind) for kind in profile.needs]
    rows = []
    for kind in dict.fromkeys([*needed, *chosen]):
        entry, store = chosen.get(kind, (None, ""))
        row = UsedCredentials(kind, kind in needed)
        if entry is not None:
            row = UsedCredentials(
                kind,
                kind in needed,
                str(entry.scope),
                entry.domain,
                entry.imported_at,
                entry.worked_at,
                entry.origin,
                store,
            )
        rows.append(row)
    return tuple(rows)
