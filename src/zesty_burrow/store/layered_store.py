"""A user's own store and the machine's, read as one: their own comes first."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING

from zesty_burrow.errors import NotFound
from zesty_burrow.store.rows import ProfileRow
from zesty_burrow.store.store import CredentialsRow, Store, choose_among

if TYPE_CHECKING:
    from zesty_burrow.core.credentials import Credentials
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.profiles.trust_facts import FactsOf


class LayeredStore:
    """``stores``: by whom they are for, in the order in which they are looked into."""

    def __init__(self, stores: dict[str, Store]) -> None:
        self._stores = stores

    def __enter__(self) -> LayeredStore:
        return self

    def __exit__(self, *_: object) -> None:
        with ExitStack() as stack:
            for store in self._stores.values():
                stack.callback(store.close)

    def list_profiles(self, words: Sequence[str] = (), **where: str) -> list[tuple[str, ProfileRow]]:
        """Whom it is for and the row, of every profile; a name that both stores have is shown for both."""
        return [(whom, row) for whom, store in self._stores.items() for row in store.list_profiles(words, **where)]

    def names(self, prefix: str, most: int) -> list[str]:
        """At most so many names of either store that begin like this, sorted."""
        return sorted({name for store in self._stores.values() for name in store.names(prefix, most)})[:most]

    def find_profile(self, name: str) -> tuple[Profile, ProfileRow, str]:
        """A profile by name or place, its row, and whose store it is in."""
        last: NotFound | None = None
        for whom, store in self._stores.items():
            try:
                return *store.find_profile(name), whom
            except NotFound as problem:
                if last is None or (problem.instead[1] and not last.instead[1]):
                    last = problem
        step = "Import a kit first: zesty import KIT"
        raise last or NotFound(f"there is no profile {name!r}", why="nothing was imported yet", next_step=step)

    def choose_credentials(self, profile: Profile, device: str) -> dict[str, tuple[CredentialsRow, str]]:
        """What would be used, by kind, and whose store it is in; the user's own before the machine's."""
        return self.credentials_at_once().choose_credentials(profile, device)

    def open_credentials(self, row: CredentialsRow, whom: str) -> Credentials:
        """What is sealed in an entry."""
        return self._stores[whom].open_credentials(row)

    def note_sign_in(self, row: CredentialsRow, whom: str) -> None:
        """A gateway has accepted what an entry holds."""
        self._stores[whom].note_sign_in(row)

    def credentials_at_once(self) -> CredentialsAtOnce:
        """For many profiles: what is kept now, each entry looked up and opened once."""
        kept = {whom: store.list_credentials() for whom, store in self._stores.items()}
        return CredentialsAtOnce(kept, self.open_credentials)

    def profile_text(self, row: ProfileRow, whom: str) -> str:
        return self._stores[whom].profile_texts([row.name])[0]

    def profile_texts(self, rows: Sequence[tuple[str, ProfileRow]]) -> list[tuple[ProfileRow, str, str]]:
        """Rows of :meth:`list_profiles` with the texts of their profiles, and whose store each is in."""
        found = []
        for whom, store in self._stores.items():
            own = [row for other, row in rows if other == whom]
            texts = store.profile_texts([row.name for row in own])
            found += [(row, text, whom) for row, text in zip(own, texts, strict=True)]
        return found

    def trust_facts(self, whom: str, pems: Sequence[str]) -> FactsOf:
        """What is known of the certificates and revocation lists of one of its profiles."""
        return self._stores[whom].trust_facts(pems)

    def list_credentials(self) -> list[tuple[str, CredentialsRow]]:
        """Every entry of both, with whose store it is in."""
        return [(whom, row) for whom, store in self._stores.items() for row in store.list_credentials()]


class CredentialsAtOnce:
    """Entries as they were when this was made; ``open_one`` opens one of somebody's."""

    def __init__(
        self,
        kept: Mapping[str, Sequence[CredentialsRow]],
        open_one: Callable[[CredentialsRow, str], Credentials],
    ) -> None:
        self._kept, self._open_one = kept, open_one
        self._opened: dict[tuple[CredentialsRow, str], Credentials] = {}

    def choose_credentials(self, profile: Profile, device: str) -> dict[str, tuple[CredentialsRow, str]]:
        """What would be used, by kind, and whose it is; the machine's fill in for what the user has none of."""
        found: dict[str, tuple[CredentialsRow, str]] = {}
        for whom, rows in self._kept.items():
            for kind, row in choose_among(rows, profile.credentials_label, profile.name, device).items():
                found.setdefault(kind, (row, whom))
        return found

    def open_credentials(self, row: CredentialsRow, whom: str) -> Credentials:
        """What is sealed in an entry."""
        if (row, whom) not in self._opened:
            self._opened[row, whom] = self._open_one(row, whom)
        return self._opened[row, whom]
