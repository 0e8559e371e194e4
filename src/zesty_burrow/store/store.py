"""The store's calls. Every call that changes something is one transaction: all of it or nothing."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from zesty_burrow.errors import Clash, NotFound, StateError
from zesty_burrow.store.rows import HEAD, ProfileRow, matching
from zesty_burrow.store.tables import credentials, metadata, observations, profiles

if TYPE_CHECKING:
    # Loaded where they are needed: a list of profiles reads rows alone.
    from zesty_burrow.core.credentials import Credentials, Scope
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.intake.import_plan import NewProfile
    from zesty_burrow.store.seal import Seal


@dataclass(frozen=True, slots=True)
class CredentialsRow:
    """What may be shown of sealed credentials."""

    label: str
    device: str
    profile: str
    kind: str
    origin: str
    imported_at: str

    @property
    def scope(self) -> Scope:
        """Whom they are for."""
        from zesty_burrow.core.credentials import Scope

        return Scope(self.label, self.device, self.profile)


@dataclass(frozen=True, slots=True)
class ObservationRow:
    """A verification's record; ``document`` is the JSON of an observation."""

    taken_at: str
    role: str
    profile: str
    verdict: str
    document: str


_UNIQUE = ("label", "device", "profile", "kind")
_LISTED = [profiles.c[name] for name in ProfileRow.__slots__]


def sqlite_url(path: Path, mode: int = 0o600) -> str:
    """The URL of a store on disk; makes its file with its final mode."""
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    os.close(os.open(path, os.O_RDWR | os.O_CREAT, mode))
    return f"sqlite:///{path}"


def read_only_url(path: Path) -> str:
    """The URL of a store on disk that belongs to somebody else."""
    return f"sqlite:///file:{quote(str(path))}?mode=ro&uri=true"


def choose_among(rows: Iterable[CredentialsRow], profile: Profile, device: str) -> dict[str, CredentialsRow]:
    """Of each kind the most specific entry that fits a profile on a device."""
    from zesty_burrow.core.credentials import most_specific

    fitting: dict[str, list[CredentialsRow]] = {}
    for row in rows:
        if row.scope.fits(profile.credentials_label, profile.name, device):
            fitting.setdefault(row.kind, []).append(row)
    chosen = {kind: most_specific(rows, lambda row: row.scope) for kind, rows in fitting.items()}
    return {kind: row for kind, row in chosen.items() if row is not None}


class Store:
    """Profiles, credentials and observations in one database. ``seal`` is asked for only when secrets are touched."""

    def __init__(self, url: str, seal: Callable[[], Seal], now: Callable[[], str]) -> None:
        self._seal_source = seal
        self._seal: Seal | None = None
        self._now = now
        self._shown = "of the settings"
        try:
            self._shown = sa.make_url(url).render_as_string(hide_password=True)
            self._engine = sa.create_engine(url)
            if self._engine.dialect.name == "sqlite":
                sa.event.listen(self._engine, "connect", _sqlite_settings)
            self._migrate()
        except (SQLAlchemyError, ImportError) as problem:
            raise self._broken(problem) from None

    def _broken(self, problem: Exception) -> StateError:
        reason = str(getattr(problem, "orig", problem)).splitlines()[0]
        return StateError(
            f"the store {self._shown} cannot be used", why=reason, next_step="Check its path or URL, and its rights."
        )

    def _migrate(self) -> None:
        with self._engine.begin() as connection:
            if self._shape(connection) == HEAD:
                return
        with self._engine.begin() as connection:
            if self._engine.dialect.name == "sqlite":
                # Else each table would be there as soon as it is made, and a store that was cut off in the middle half.
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            # Somebody else may have been quicker.
            shape = self._shape(connection)
            if not shape:
                self._make(connection)
            elif shape != HEAD:
                self._upgrade(connection)

    def _shape(self, connection: sa.Connection) -> str:
        """The revision of what is there; empty where it is fresh, or was never made whole."""
        if "alembic_version" not in sa.inspect(connection).get_table_names():
            return ""
        found = connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()
        if found is not None and str(found) > HEAD:
            raise StateError(
                f"the store {self._shown} is newer than this program",
                why=f"its shape is {found}, this program knows {HEAD}",
                next_step="Update zesty-burrow.",
            )
        return str(found or "")

    @staticmethod
    def _make(connection: sa.Connection) -> None:
        """A fresh store takes the newest shape at once; a test holds it equal to what the migrations give."""
        metadata.create_all(connection)
        connection.execute(sa.text("CREATE TABLE IF NOT EXISTS alembic_version (version_num VARCHAR(32) NOT NULL)"))
        connection.execute(sa.text("INSERT INTO alembic_version VALUES (:head)"), {"head": HEAD})

    @staticmethod
    def _upgrade(connection: sa.Connection) -> None:
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        config.attributes["connection"] = connection
        command.upgrade(config, "head")

    @contextmanager
    def _begin(self) -> Iterator[sa.Connection]:
        try:
            with self._engine.begin() as connection:
                yield connection
        except DBAPIError as problem:
            raise self._broken(problem) from None

    def close(self) -> None:
        """Let go of the database."""
        self._engine.dispose()

    @property
    def seal(self) -> Seal:
        """The seal, asked for once."""
        if self._seal is None:
            self._seal = self._seal_source()
        return self._seal

    # Profiles.

    def digests(self) -> dict[str, str]:
        """The names that exist, each with its content's digest."""
        with self._begin() as connection:
            rows = connection.execute(sa.select(profiles.c.name, profiles.c.digest))
            return {row.name: row.digest for row in rows}

    def take_kit(
        self,
        found: Iterable[NewProfile],
        secrets: Iterable[tuple[Scope, Credentials, str]],
        *,
        replacing: Iterable[str] = (),
    ) -> None:
        """Add profiles and credentials (scope, value, origin) in one transaction.

        ``replacing``: profiles that go in the same moment, to make room for others of their names.
        """
        now = self._now()
        rows = [
            {**_content(one.profile, one.text, one.digest), "origin": one.origin, "imported_at": now} for one in found
        ]
        sealed = [self._credentials_row(scope, value, origin, now) for scope, value, origin in secrets]
        with self._begin() as connection:
            gone = list(replacing)
            for at in range(0, len(gone), 500):
                connection.execute(sa.delete(profiles).where(profiles.c.name.in_(gone[at : at + 500])))
            if rows:
                connection.execute(sa.insert(profiles), rows)
            for row in sealed:
                same = [credentials.c[name] == row[name] for name in _UNIQUE]
                connection.execute(sa.delete(credentials).where(*same))
                connection.execute(sa.insert(credentials), row)

    def _credentials_row(self, scope: Scope, value: Credentials, origin: str, now: str) -> dict[str, object]:
        from zesty_burrow.core.credentials import kind_of, pack

        kind = kind_of(value)
        return {
            "label": scope.label,
            "device": scope.device,
            "profile": scope.profile,
            "kind": str(kind),
            "sealed": self.seal.seal(pack(value), scope.subject(kind)),
            "origin": origin,
            "imported_at": now,
        }

    def list_profiles(self, words: Sequence[str] = (), **where: str) -> list[ProfileRow]:
        """Profiles by name; see :func:`matching` for ``words`` and ``where``."""
        with self._begin() as connection:
            rows = [ProfileRow(*row) for row in connection.execute(sa.select(*_LISTED).order_by(profiles.c.name))]
        return matching(rows, words, **where)

    def find_profile(self, name: str) -> tuple[Profile, ProfileRow]:
        """One profile by name, or by a place that only one profile has; :class:`NotFound` otherwise."""
        with self._begin() as connection:
            query = sa.select(profiles.c.text, *_LISTED)
            row = connection.execute(query.where(profiles.c.name == name)).first()
            if row is None:
                places = sa.func.lower(profiles.c.city) == name.lower()
                rows = connection.execute(query.where(places).limit(2)).all()
                row = rows[0] if len(rows) == 1 else None
            if row is None:
                near = [entry.name for entry in self.list_profiles([name])[:5]]
                why = f"near it: {', '.join(near)}" if near else "nothing of that name or place was imported"
                raise NotFound(f"there is no profile {name!r}", why=why)
        from zesty_burrow.profiles.text import read_profile

        return read_profile(row.text, f"profile {row.name}"), ProfileRow(*row[1:])

    def labels(self) -> dict[str, str]:
        """Under which label each profile's credentials are kept, by the profile's name."""
        from zesty_burrow.profiles.text import read_label

        with self._begin() as connection:
            rows = connection.execute(sa.select(profiles.c.name, profiles.c.provider, profiles.c.text)).all()
        return {row.name: read_label(row.text) or row.provider or row.name for row in rows}

    def remove_profiles(self, names: Sequence[str], *, forget_labels: Sequence[str] = ()) -> None:
        """Remove profiles with the credentials that were theirs alone, and the credentials under some labels."""
        with self._begin() as connection:
            for name in names:
                if connection.execute(sa.delete(profiles).where(profiles.c.name == name)).rowcount == 0:
                    raise NotFound(f"there is no profile {name!r}")
                connection.execute(sa.delete(credentials).where(credentials.c.profile == name))
            for label in forget_labels:
                connection.execute(sa.delete(credentials).where(credentials.c.label == label))

    def rename_profile(self, old: str, new: str) -> None:
        """Give a profile another name, in its row and in its text."""
        from zesty_burrow.core.credentials import Scope

        profile, row = self.find_profile(old)
        with self._begin() as connection:
            if connection.execute(sa.select(profiles.c.id).where(profiles.c.name == new)).first() is not None:
                raise Clash(f"there is a profile {new!r} already", next_step="Choose another name.")
            _rewrite(connection, row.name, replace(profile, name=new))
            own = connection.execute(sa.select(credentials).where(credentials.c.profile == row.name)).all()
            for entry in own:
                # The seal binds a secret to whom it is for.
                before = Scope(entry.label, entry.device, entry.profile).subject(entry.kind)
                after = Scope(entry.label, entry.device, new).subject(entry.kind)
                sealed = self.seal.seal(self.seal.open(entry.sealed, before), after)
                change = sa.update(credentials).where(credentials.c.id == entry.id)
                connection.execute(change.values(profile=new, sealed=sealed))

    def change_profile(self, profile: Profile) -> None:
        """Put a changed profile in the place of the one of its name; where it came from stays."""
        with self._begin() as connection:
            _rewrite(connection, profile.name, profile)

    def profile_texts(self, names: Sequence[str]) -> list[str]:
        """The texts of profiles, in the order of the names."""
        found: dict[str, str] = {}
        with self._begin() as connection:
            for at in range(0, len(names), 500):
                query = sa.select(profiles.c.name, profiles.c.text).where(profiles.c.name.in_(names[at : at + 500]))
                found.update({row.name: row.text for row in connection.execute(query)})
        return [found[name] for name in names]

    # Credentials.

    def list_credentials(self) -> list[CredentialsRow]:
        """Sealed credentials, without what is sealed."""
        columns = [credentials.c[name] for name in CredentialsRow.__slots__]
        order = [credentials.c[name] for name in _UNIQUE]
        with self._begin() as connection:
            return [CredentialsRow(*row) for row in connection.execute(sa.select(*columns).order_by(*order))]

    def find_credentials(self, scope: Scope, kind: str) -> Credentials | None:
        """What is kept for exactly this scope."""
        rows = [row for row in self.list_credentials() if row.scope == scope and row.kind == kind]
        return self.open_credentials(rows[0]) if rows else None

    def open_credentials(self, row: CredentialsRow) -> Credentials:
        """What is sealed in an entry; :class:`NotFound` where it has gone."""
        from zesty_burrow.core.credentials import unpack

        same = [credentials.c[name] == getattr(row, name) for name in _UNIQUE]
        with self._begin() as connection:
            sealed = connection.execute(sa.select(credentials.c.sealed).where(*same)).scalar()
        if sealed is None:
            raise NotFound(f"there are no credentials for {row.scope}", next_step="See `zesty credentials list`.")
        return unpack(self.seal.open(sealed, row.scope.subject(row.kind)), row.kind)

    def forget_credentials(self, scope: Scope, kind: str = "") -> int:
        """Remove what is kept for a scope, all kinds or one; how many. :class:`NotFound` where there is nothing."""
        same = [credentials.c[name] == getattr(scope, name) for name in ("label", "device", "profile")]
        if scope.profile and not scope.label:
            same = same[1:]
        if kind:
            same.append(credentials.c.kind == kind)
        with self._begin() as connection:
            count = connection.execute(sa.delete(credentials).where(*same)).rowcount
            if count == 0:
                raise NotFound(f"there are no credentials for {scope}", next_step="See `zesty credentials list`.")
        return count

    def reseal(self, new: Seal) -> int:
        """Encrypt every secret again under another key, in one transaction. The number of secrets."""
        from zesty_burrow.core.credentials import Scope

        with self._begin() as connection:
            rows = connection.execute(sa.select(credentials)).all()
            for row in rows:
                subject = Scope(row.label, row.device, row.profile).subject(row.kind)
                sealed = new.seal(self.seal.open(row.sealed, subject), subject)
                connection.execute(sa.update(credentials).where(credentials.c.id == row.id).values(sealed=sealed))
        self._seal = new
        return len(rows)

    # Observations.

    def add_observation(self, row: ObservationRow) -> None:
        """Remember what a verification saw."""
        values = {name: getattr(row, name) for name in ObservationRow.__slots__}
        with self._begin() as connection:
            connection.execute(sa.insert(observations), values)

    def latest_observation(self, role: str) -> ObservationRow | None:
        """The newest observation of a role: ``before`` or ``after``."""
        columns = [observations.c[name] for name in ObservationRow.__slots__]
        query = sa.select(*columns).where(observations.c.role == role).order_by(observations.c.id.desc()).limit(1)
        with self._begin() as connection:
            row = connection.execute(query).first()
        return ObservationRow(*row) if row else None


def _sqlite_settings(connection: sa.engine.interfaces.DBAPIConnection, _: object) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA secure_delete = ON")
    cursor.execute("PRAGMA busy_timeout = 5000")
    # Nothing of a transaction may lie in a file of another mode, not even for a moment.
    cursor.execute("PRAGMA temp_store = MEMORY")
    cursor.close()


def _content(profile: Profile, text: str, digest: str) -> dict[str, str]:
    return {
        "name": profile.name,
        "provider": profile.provider,
        "country": profile.country,
        "city": profile.city,
        "protocol": profile.tunnel.protocol,
        "digest": digest,
        "text": text,
        "tags": " ".join(profile.tags),
    }


def _rewrite(connection: sa.Connection, name: str, profile: Profile) -> None:
    """Put a changed profile in the place of the one of that name; where it came from stays."""
    from zesty_burrow.profiles.text import content_digest, write_profile

    text = write_profile(profile)
    change = sa.update(profiles).where(profiles.c.name == name)
    connection.execute(change.values(**_content(profile, text, content_digest(profile, text))))
