"""The store's calls. Every call that changes something is one transaction: all of it or nothing."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from os import urandom
from typing import TYPE_CHECKING

from zesty_burrow.errors import Clash, NotFound, SealError
from zesty_burrow.records import dataclass, replace
from zesty_burrow.store import history
from zesty_burrow.store.database import Database, Transaction, in_parts, placeholders
from zesty_burrow.store.migrate import bring_up_to_date
from zesty_burrow.store.rows import ProfileRow, described, in_place, matching

if TYPE_CHECKING:
    # Loaded where they are needed: a list of profiles reads rows alone.
    from zesty_burrow.core.credentials import Credentials
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.core.scope import Scope
    from zesty_burrow.intake.import_plan import NewProfile
    from zesty_burrow.profiles.trust_facts import Facts, FactsOf
    from zesty_burrow.store.fleet.fleet_store import FleetStore
    from zesty_burrow.store.seal import Seal
    from zesty_burrow.store.verifications.run_store import RunStore


@dataclass(frozen=True, slots=True)
class CredentialsRow:
    """What may be shown of sealed credentials.

    ``worked_at``: when a gateway has accepted them last; ``domain``: the login domain, which is no secret.
    """

    label: str
    device: str
    profile: str
    kind: str
    origin: str
    imported_at: str
    worked_at: str = ""
    domain: str = ""

    @property
    def scope(self) -> Scope:
        from zesty_burrow.core.scope import Scope

        return Scope(self.label, self.device, self.profile)


_UNIQUE = ("label", "device", "profile", "kind")
_LISTED = ", ".join(ProfileRow.__slots__)
_CONTENT = ("provider", "country", "city", "protocol", "digest", "text", "tags", "label", "needs", "lacks")
_CREDENTIALS = (*_UNIQUE, "sealed", "origin", "imported_at", "domain")
PROOF = "store/proof"
SHOWN = 8
MOST_EDITIONS = 500
"""Profiles of a provider among which an older edition under another name is looked for."""
SALT_SIZE = 16


def choose_among(rows: Iterable[CredentialsRow], label: str, name: str, device: str) -> dict[str, CredentialsRow]:
    """Of each kind the most specific entry that fits a profile (its credentials label and name) on a device."""
    from zesty_burrow.core.scope import most_specific

    fitting: dict[str, list[CredentialsRow]] = {}
    for row in rows:
        if row.scope.fits(label, name, device):
            fitting.setdefault(row.kind, []).append(row)
    chosen = {kind: most_specific(rows, lambda row: row.scope) for kind, rows in fitting.items()}
    return {kind: row for kind, row in chosen.items() if row is not None}


class Store:
    """Profiles, credentials and verifications in one database. ``seal`` is asked for only when secrets are touched.
    ``who``: who changes something.
    """

    def __init__(
        self,
        database: Database,
        seal: Callable[[Store], Seal],
        now: Callable[[], str],
        who: Callable[[], str] = lambda: "",
    ) -> None:
        self._database = database
        self._seal_source = seal
        self._seal: Seal | None = None
        self._now, self._who = now, who
        try:
            bring_up_to_date(database)
        except BaseException:
            database.close()
            raise

    def _reading(self) -> AbstractContextManager[Transaction]:
        return self._database.transaction()

    def _writing(self) -> AbstractContextManager[Transaction]:
        return self._database.transaction(write=True)

    @contextmanager
    def _changing(self, what: str, names: Iterable[str], devices: list[str] | None = None) -> Iterator[Transaction]:
        """A change that can be taken back. ``names``: the profiles that it may touch, before and after it."""
        with self._writing() as transaction:
            recording = history.Recording.begin(transaction, names, devices)
            yield transaction
            recording.end(transaction, self._now(), what, self._who())

    def list_changes(self) -> list[history.ChangeRow]:
        """What can be taken back, the newest first."""
        with self._reading() as transaction:
            return history.list_changes(transaction)

    def take_back(self, number: int, what: str) -> None:
        """Undo a change; that is one itself. :class:`Clash` where something has come after it."""
        with self._reading() as transaction:
            names, devices = history.names_in(transaction, number)
        with self._changing(f"undo: {what}", names, devices) as transaction:
            history.take_back(transaction, number, what)

    def forget_changes(self) -> int:
        """Forget everything that could be taken back; the number of changes."""
        with self._writing() as transaction:
            return transaction.change("DELETE FROM changes")

    def close(self) -> None:
        self._database.close()

    # The seal.

    @property
    def seal(self) -> Seal:
        """The seal, asked for once; :class:`SealError` where the store's secrets were sealed with another key."""
        if self._seal is None:
            found = self._seal_source(self)
            with self._reading() as transaction:
                rows = transaction.execute("SELECT proof FROM seal")
            if rows and rows[0][0] is not None:
                self._check(found, bytes(rows[0][0]))
            self._seal = found
        return self._seal

    def _check(self, seal: Seal, proof: bytes) -> None:
        try:
            seal.open(proof, PROOF)
        except SealError:
            raise SealError(
                f"this key is not the one of the store {self._database.shown}",
                why="its secrets were sealed with another passphrase, key file or keyring",
                next_step="Use the key that the others use (docs/security.md); nothing was sealed or opened.",
            ) from None

    def _seal_where(self, condition: str, *parameters: object) -> Seal:
        """The seal where there is anything of that kind to open; else one that is never used.

        Asked for before a transaction begins: a person may take long to enter a passphrase.
        """
        with self._reading() as transaction:
            query = f"SELECT 1 FROM credentials WHERE {condition} LIMIT 1"  # noqa: S608
            some = bool(transaction.execute(query, *parameters))
        if some:
            return self.seal
        from zesty_burrow.store.seal import Seal

        return Seal(urandom(32))

    def shared_salt(self) -> bytes:
        """The salt for a passphrase that everybody who uses this store shares; made at first use."""
        with self._writing() as transaction:
            rows = transaction.execute("SELECT salt FROM seal")
            if not rows:
                transaction.execute("INSERT INTO seal (salt) VALUES (?)", urandom(SALT_SIZE))
                rows = transaction.execute("SELECT salt FROM seal")
        return bytes(rows[0][0])

    def _note_proof(self, transaction: Transaction, seal: Seal, *, replace: bool = False) -> None:
        """From the first sealed secret on, another key is noticed; by two at once the first one's."""
        rows = transaction.execute("SELECT proof FROM seal")
        if rows and rows[0][0] is not None and not replace:
            self._check(seal, bytes(rows[0][0]))
            return
        proof = seal.seal(b"", PROOF)
        if rows:
            transaction.execute("UPDATE seal SET proof = ?", proof)
        else:
            transaction.execute("INSERT INTO seal (salt, proof) VALUES (?, ?)", urandom(SALT_SIZE), proof)

    @property
    def fleet(self) -> FleetStore:
        """Devices, and this machine's own keys."""
        from zesty_burrow.store.fleet.fleet_store import FleetStore

        return FleetStore(self._database, lambda: self.seal, self._note_proof, self._now, self._who)

    # Profiles.

    def digests(self) -> dict[str, str]:
        """The names that exist, each with its content's digest."""
        with self._reading() as transaction:
            return dict(transaction.execute("SELECT name, digest FROM profiles"))

    def take_kit(
        self,
        profiles: Iterable[NewProfile],
        secrets: Iterable[tuple[Scope, Credentials, str]],
        *,
        replacing: Iterable[str] = (),
        what: str = "import",
    ) -> None:
        """Add profiles and credentials (scope, value, origin) in one transaction.

        ``replacing``: profiles that go in the same moment, to make room for others of their names.
        """
        now = self._now()
        columns = ("name", *_CONTENT, "origin", "imported_at")
        rows = [
            (one.profile.name, *_content(one.profile, one.text, one.digest), one.origin, now)
            for one in sorted(profiles, key=lambda one: one.profile.name)
        ]
        sealed = [self._credentials_row(scope, value, origin, now) for scope, value, origin in secrets]
        going = list(replacing)
        with self._changing(what, [*going, *(str(row[0]) for row in rows)]) as transaction:
            for some in in_parts(going):
                transaction.execute(f"DELETE FROM profiles WHERE name IN ({placeholders(some)})", *some)  # noqa: S608
            if rows:
                transaction.execute_many(
                    f"INSERT INTO profiles ({', '.join(columns)}) VALUES ({placeholders(columns)})",  # noqa: S608
                    rows,
                )
            if sealed:
                self._note_proof(transaction, self.seal)
                # The newest of two for the same scope stays.
                transaction.execute_many(
                    f"INSERT INTO credentials ({', '.join(_CREDENTIALS)}) "  # noqa: S608
                    f"VALUES ({placeholders(_CREDENTIALS)}) ON CONFLICT ({', '.join(_UNIQUE)}) DO UPDATE SET "
                    "sealed = excluded.sealed, origin = excluded.origin, imported_at = excluded.imported_at, "
                    "domain = excluded.domain, worked_at = ''",
                    sealed,
                )

    def _credentials_row(self, scope: Scope, value: Credentials, origin: str, now: str) -> tuple[object, ...]:
        from zesty_burrow.core.credentials import kind_of, pack

        kind = kind_of(value)
        sealed = self.seal.seal(pack(value), scope.subject(kind))
        domain = getattr(value, "domain", "")
        return scope.label, scope.device, scope.profile, str(kind), sealed, origin, now, domain

    def list_profiles(self, words: Sequence[str] = (), **where: str) -> list[ProfileRow]:
        """Profiles by name; see :func:`matching` for ``words`` and ``where``."""
        with self._reading() as transaction:
            found = transaction.execute(f"SELECT {_LISTED} FROM profiles")  # noqa: S608
        # By code point, which not every database's collation does.
        return matching(sorted((ProfileRow(*row) for row in found), key=lambda row: row.name), words, **where)

    def names(self, prefix: str, most: int) -> list[str]:
        """At most so many names that begin like this, and nothing else of their profiles."""
        query = "SELECT name FROM profiles WHERE substr(name, 1, ?) = ? LIMIT ?"
        with self._reading() as transaction:
            return [name for (name,) in transaction.execute(query, len(prefix), prefix, most)]

    def find_profile(self, name: str) -> tuple[Profile, ProfileRow]:
        """One profile by name, or by a place that only one profile has; :class:`NotFound` otherwise."""
        query = f"SELECT text, {_LISTED} FROM profiles WHERE name = ?"  # noqa: S608
        with self._reading() as transaction:
            rows = transaction.execute(query, name)
        there = [] if rows else in_place(self.list_profiles(), name)
        if len(there) == 1:
            with self._reading() as transaction:
                rows = transaction.execute(query, there[0].name)
        if len(there) > 1:
            names = ", ".join(row.name for row in there[:SHOWN]) + (" …" if len(there) > SHOWN else "")
            several = NotFound(f"{len(there)} profiles are in {name}", why=names, next_step="Name one of them.")
            several.instead = (name, tuple(row.name for row in there[:SHOWN]))
            raise several
        if not rows:
            why = "nothing of that name or place was imported"
            known = [row.name for row in self.list_profiles()]
            missing = NotFound(f"there is no profile {name!r}", why=why)
            if not known:
                missing.next_step = "Import a kit first: zesty import KIT"
            raise missing.meaning(name, known)
        from zesty_burrow.profiles.text import read_profile

        text, *row = rows[0]
        found = ProfileRow(*row)
        return read_profile(text, f"profile {found.name}"), found

    def labels(self) -> dict[str, str]:
        """Under which label each profile's credentials are kept, by the profile's name."""
        with self._reading() as transaction:
            return dict(transaction.execute("SELECT name, label FROM profiles"))

    def remove_profiles(
        self, names: Sequence[str], *, forget_labels: Sequence[str] = (), what: str = "remove", for_good: bool = False
    ) -> None:
        """Remove profiles with the credentials that were theirs alone, and the credentials under some labels."""
        with self._forgetting(what, names, for_good=for_good) as transaction:
            there: set[str] = set()
            for some in in_parts(names):
                query = f"SELECT name FROM profiles WHERE name IN ({placeholders(some)})"  # noqa: S608
                there |= {row[0] for row in transaction.execute(query, *some)}
            missing = next((name for name in names if name not in there), None)
            if missing is not None:
                raise NotFound(f"there is no profile {missing!r}")
            for some in in_parts(names):
                marks = placeholders(some)
                transaction.execute(f"DELETE FROM profiles WHERE name IN ({marks})", *some)  # noqa: S608
                transaction.execute(f"DELETE FROM credentials WHERE profile IN ({marks})", *some)  # noqa: S608
            for label in forget_labels:
                transaction.execute("DELETE FROM credentials WHERE label = ?", label)

    @contextmanager
    def _forgetting(self, what: str, names: Sequence[str], *, for_good: bool) -> Iterator[Transaction]:
        """A removal. ``for_good``: nothing of it is kept, nor of what was there before it."""
        if not for_good:
            with self._changing(what, names) as transaction:
                yield transaction
            return
        with self._writing() as transaction:
            before = history.credentials_now(transaction)
            yield transaction
            gone = before.keys() - history.credentials_now(transaction).keys()
            history.forget_for_good(transaction, set(names), gone)

    def rename_profile(self, old: str, new: str) -> None:
        """Give a profile another name, in its row and in its text; its credentials stay its own."""
        from zesty_burrow.core.scope import Scope

        profile, row = self.find_profile(old)
        is_own = row.label == row.name and list(self.labels().values()).count(row.label) == 1
        relabel = is_own and not any(one.label == new for one in self.list_credentials())
        if row.label == row.name and not relabel:
            # Others use them as well, or the new label is taken: they stay under the label that they have.
            profile = replace(profile, sign_in=replace(profile.sign_in, credentials=row.label))
        seal = self._seal_where("profile = ? OR label = ?", row.name, row.name)
        with self._changing(f"rename {row.name} to {new}", [row.name, new], []) as transaction:
            if transaction.execute("SELECT 1 FROM profiles WHERE name = ?", new):
                raise Clash(f"there is a profile {new!r} already", next_step="Choose another name.")
            _rewrite(transaction, row.name, replace(profile, name=new))
            transaction.execute("UPDATE device_rules SET profile = ? WHERE profile = ?", new, row.name)
            query = "SELECT id, label, device, profile, kind, sealed FROM credentials WHERE profile = ? OR label = ?"
            for number, label, device, whose, kind, sealed in transaction.execute(query, row.name, row.name):
                before = Scope(label, device, whose)
                after = Scope(
                    new if relabel and label == row.name else label, device, new if whose == row.name else whose
                )
                # The seal binds a secret to whom it is for.
                again = seal.seal(seal.open(bytes(sealed), before.subject(kind)), after.subject(kind))
                update = "UPDATE credentials SET label = ?, profile = ?, sealed = ? WHERE id = ?"
                transaction.execute(update, after.label, after.profile, again, number)

    def change_profiles(self, profiles: Iterable[Profile], what: str = "change") -> None:
        """Put changed profiles in the places of those of their names, all or none; where they came from stays."""
        changed = list(profiles)
        with self._changing(what, [profile.name for profile in changed]) as transaction:
            for profile in changed:
                _rewrite(transaction, profile.name, profile)

    def profile_texts(self, names: Sequence[str]) -> list[str]:
        """The texts of profiles, in the order of the names."""
        found: dict[str, str] = {}
        with self._reading() as transaction:
            for some in in_parts(names):
                query = f"SELECT name, text FROM profiles WHERE name IN ({placeholders(some)})"  # noqa: S608
                found.update(transaction.execute(query, *some))
        return [found[name] for name in names]

    # Credentials.

    def list_credentials(self) -> list[CredentialsRow]:
        """Sealed credentials, without what is sealed."""
        with self._reading() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(CredentialsRow.__slots__)} FROM credentials")  # noqa: S608
        found = [CredentialsRow(*row) for row in rows]
        return sorted(found, key=lambda row: (row.label, row.device, row.profile, row.kind))

    def find_credentials(self, scope: Scope, kind: str) -> Credentials | None:
        """What is kept for exactly this scope."""
        rows = [row for row in self.list_credentials() if row.scope == scope and row.kind == kind]
        return self.open_credentials(rows[0]) if rows else None

    def worked_at(self, scope: Scope, kind: str) -> str:
        """When a gateway has accepted last what is kept for exactly this scope (RFC 3339), or an empty text."""
        rows = [row for row in self.list_credentials() if row.scope == scope and row.kind == kind]
        return rows[0].worked_at if rows else ""

    def editions_of(self, provider: str) -> list[tuple[str, str]]:
        """Names and texts of a provider's profiles; none where it has more than are compared."""
        with self._reading() as transaction:
            query = "SELECT name, text FROM profiles WHERE provider = ? LIMIT ?"
            rows = transaction.execute(query, provider, MOST_EDITIONS + 1)
        return [] if len(rows) > MOST_EDITIONS else [(name, text) for name, text in rows]

    def open_credentials(self, row: CredentialsRow) -> Credentials:
        """What is sealed in an entry; :class:`NotFound` where it has gone."""
        from zesty_burrow.core.credentials import unpack

        same = " AND ".join(f"{name} = ?" for name in _UNIQUE)
        with self._reading() as transaction:
            query = f"SELECT sealed FROM credentials WHERE {same}"  # noqa: S608
            sealed = transaction.execute(query, *(getattr(row, name) for name in _UNIQUE))
        if not sealed:
            raise NotFound(f"there are no credentials for {row.scope}", next_step="See `zesty credentials list`.")
        return unpack(self.seal.open(bytes(sealed[0][0]), row.scope.subject(row.kind)), row.kind)

    def note_sign_in(self, row: CredentialsRow) -> None:
        """A gateway has accepted what an entry holds."""
        same = " AND ".join(f"{name} = ?" for name in _UNIQUE)
        if not self._database.read_only:
            with self._writing() as transaction:
                update = f"UPDATE credentials SET worked_at = ? WHERE {same}"  # noqa: S608
                transaction.execute(update, self._now(), *(getattr(row, name) for name in _UNIQUE))

    def forget_credentials(self, scope: Scope, kind: str = "", *, for_good: bool = False) -> int:
        """Remove what is kept for a scope, all kinds or one; how many. :class:`NotFound` where there is nothing."""
        same = {"label": scope.label, "device": scope.device, "profile": scope.profile}
        if scope.profile and not scope.label:
            del same["label"]
        if kind:
            same["kind"] = kind
        with self._forgetting(f"forget the credentials for {scope}", [], for_good=for_good) as transaction:
            conditions = " AND ".join(f"{name} = ?" for name in same)
            count = transaction.change(f"DELETE FROM credentials WHERE {conditions}", *same.values())  # noqa: S608
            if count == 0:
                raise NotFound(f"there are no credentials for {scope}", next_step="See `zesty credentials list`.")
        return count

    def reseal(self, new: Seal) -> int:
        """Encrypt every secret again under another key, in one transaction. The number of secrets."""
        from zesty_burrow.core.scope import Scope
        from zesty_burrow.store.fleet.fleet_store import seal_keys_again

        with self._reading() as transaction:
            keys = transaction.execute("SELECT 1 FROM own_keys LIMIT 1")
            some_before = bool(keys) or history.holds_secrets(transaction)
        old = self.seal if some_before else self._seal_where("1 = 1")
        with self._writing() as transaction:
            query = "SELECT id, label, device, profile, kind, sealed FROM credentials"
            rows = transaction.execute(query)
            renewed: dict[str, str] = {}

            def again(key: tuple[str, ...], sealed: bytes) -> bytes:
                subject = Scope(*key[:3]).subject(key[3])
                return new.seal(old.open(sealed, subject), subject)

            for number, *key, sealed in rows:
                fresh = again(tuple(key), bytes(sealed))
                renewed[history.mark_of(bytes(sealed))] = history.mark_of(fresh)
                transaction.execute("UPDATE credentials SET sealed = ? WHERE id = ?", fresh, number)
            history.seal_again(transaction, again, renewed)
            own = seal_keys_again(transaction, lambda subject, sealed: new.seal(old.open(sealed, subject), subject))
            self._note_proof(transaction, new, replace=True)
        self._seal = new
        return len(rows) + own

    # What certificates and revocation lists say.

    def trust_facts(self, pems: Sequence[str]) -> FactsOf:
        """What is known of PEM texts; what is not is read once, and kept where this store may be changed."""
        from zesty_burrow.profiles.trust_facts import read_facts

        known: dict[str, Facts] = {}
        with self._reading() as transaction:
            for some in in_parts(list(dict.fromkeys(pems))):
                query = f"SELECT pem, facts FROM trust_facts WHERE pem IN ({placeholders(some)})"  # noqa: S608
                known.update((pem, json.loads(facts)) for pem, facts in transaction.execute(query, *some))
        fresh = {pem: read_facts(pem) for pem in dict.fromkeys(pems) if pem not in known}
        if fresh and not self._database.read_only:
            rows = [(pem, json.dumps(facts)) for pem, facts in fresh.items()]
            with self._writing() as transaction:
                transaction.execute_many("INSERT INTO trust_facts VALUES (?, ?) ON CONFLICT DO NOTHING", rows)
        return {**known, **fresh}.__getitem__

    @property
    def runs(self) -> RunStore:
        """The verifications that were made."""
        from zesty_burrow.store.verifications.run_store import RunStore

        return RunStore(self._database)


def _content(profile: Profile, text: str, digest: str) -> tuple[str, ...]:
    """The values of ``_CONTENT``."""
    place = profile.provider, profile.country, profile.city
    return *place, profile.tunnel.protocol, digest, text, " ".join(profile.tags), *described(profile)


def _rewrite(transaction: Transaction, name: str, profile: Profile) -> None:
    """Replace the profile of that name; its origin stays."""
    from zesty_burrow.profiles.text import content_digest, write_profile

    text = write_profile(profile)
    change = ", ".join(f"{column} = ?" for column in ("name", *_CONTENT))
    values = (profile.name, *_content(profile, text, content_digest(profile, text)))
    transaction.execute(f"UPDATE profiles SET {change} WHERE name = ?", *values, name)  # noqa: S608
