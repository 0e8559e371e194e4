"""The store's calls. Every call that changes something is one transaction: all of it or nothing."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from zesty_burrow.errors import Clash, NotFound, StateError
from zesty_burrow.store.tables import HEAD, credentials, metadata, observations, profiles

if TYPE_CHECKING:
    # Loaded where they are needed: a list of profiles reads rows alone.
    from zesty_burrow.core.eap.peer import NamePassword
    from zesty_burrow.core.profile.model import Profile
    from zesty_burrow.store.seal import Seal

KIND_NAME_PASSWORD = "name-password"  # noqa: S105  (a kind of secret, not one)


@dataclass(frozen=True, slots=True)
class ProfileRow:
    """What a list shows of a profile, without reading its text."""

    name: str
    provider: str
    country: str
    city: str
    protocol: str
    digest: str
    origin: str
    imported_at: str


@dataclass(frozen=True, slots=True)
class CredentialsRow:
    """What may be shown of sealed credentials."""

    label: str
    kind: str
    origin: str
    imported_at: str


@dataclass(frozen=True, slots=True)
class ObservationRow:
    """A verification's record; ``document`` is the JSON of an observation."""

    taken_at: str
    role: str
    profile: str
    verdict: str
    document: str


_LISTED = [profiles.c[name] for name in ProfileRow.__slots__]


def sqlite_url(path: Path) -> str:
    """The URL of a store on disk; makes its file with its final mode."""
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))
    return f"sqlite:///{path}"


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
            names = set(sa.inspect(connection).get_table_names())
            if not names & {"alembic_version", *metadata.tables}:
                # A fresh store takes the newest shape at once; a test holds it equal to what the migrations give.
                metadata.create_all(connection)
                connection.execute(sa.text("CREATE TABLE alembic_version (version_num VARCHAR(32) NOT NULL)"))
                connection.execute(sa.text("INSERT INTO alembic_version VALUES (:head)"), {"head": HEAD})
                return
            if "alembic_version" in names:
                found = connection.execute(sa.text("SELECT version_num FROM alembic_version")).scalar()
                if found == HEAD:
                    return
                if found is not None and str(found) > HEAD:
                    raise StateError(
                        f"the store {self._shown} is newer than this program",
                        why=f"its shape is {found}, this program knows {HEAD}",
                        next_step="Update zesty-burrow.",
                    )
        from alembic import command
        from alembic.config import Config

        config = Config()
        config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        with self._engine.begin() as connection:
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
        found: Iterable[tuple[Profile, str, str]],
        secrets: Iterable[tuple[str, NamePassword, str]],
        *,
        replace: bool = False,
    ) -> None:
        """Add profiles (value, text, origin) and credentials (label, value, origin) in one transaction."""
        now = self._now()
        rows = [_profile_row(profile, text, origin, now) for profile, text, origin in found]
        sealed = [
            {
                "label": label,
                "kind": KIND_NAME_PASSWORD,
                "sealed": self.seal.seal(_pack(value), f"{label}/{KIND_NAME_PASSWORD}"),
                "origin": origin,
                "imported_at": now,
            }
            for label, value, origin in secrets
        ]
        with self._begin() as connection:
            if replace and rows:
                for at in range(0, len(rows), 500):
                    names = [row["name"] for row in rows[at : at + 500]]
                    connection.execute(sa.delete(profiles).where(profiles.c.name.in_(names)))
            if rows:
                connection.execute(sa.insert(profiles), rows)
            for row in sealed:
                connection.execute(
                    sa.delete(credentials).where(credentials.c.label == row["label"], credentials.c.kind == row["kind"])
                )
                connection.execute(sa.insert(credentials), row)

    def list_profiles(self, words: Sequence[str] = ()) -> list[ProfileRow]:
        """Profiles by name; each of ``words`` must occur in name, provider, country, city or protocol."""
        query = sa.select(*_LISTED).order_by(profiles.c.name)
        for word in words:
            escaped = word.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
            columns = (profiles.c.name, profiles.c.provider, profiles.c.country, profiles.c.city, profiles.c.protocol)
            query = query.where(sa.or_(*[column.ilike(f"%{escaped}%", escape="\\") for column in columns]))
        with self._begin() as connection:
            return [ProfileRow(*row) for row in connection.execute(query)]

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
        from zesty_burrow.core.profile.text import read_profile

        return read_profile(row.text, f"profile {row.name}"), ProfileRow(*row[1:])

    def remove_profiles(self, names: Sequence[str], *, forget_labels: Sequence[str] = ()) -> None:
        """Remove profiles, and the credentials under some labels."""
        with self._begin() as connection:
            for name in names:
                if connection.execute(sa.delete(profiles).where(profiles.c.name == name)).rowcount == 0:
                    raise NotFound(f"there is no profile {name!r}")
            for label in forget_labels:
                connection.execute(sa.delete(credentials).where(credentials.c.label == label))

    def rename_profile(self, old: str, new: str) -> None:
        """Give a profile another name, in its row and in its text."""
        from zesty_burrow.core.profile.text import digest, write_profile

        profile, row = self.find_profile(old)
        text = write_profile(replace(profile, name=new))
        with self._begin() as connection:
            if connection.execute(sa.select(profiles.c.id).where(profiles.c.name == new)).first() is not None:
                raise Clash(f"there is a profile {new!r} already", next_step="Choose another name.")
            change = sa.update(profiles).where(profiles.c.name == row.name)
            connection.execute(change.values(name=new, text=text, digest=digest(text)))

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
        with self._begin() as connection:
            return [
                CredentialsRow(*row) for row in connection.execute(sa.select(*columns).order_by(credentials.c.label))
            ]

    def find_credentials(self, label: str) -> NamePassword:
        """The name and password kept under a label; :class:`NotFound` where there are none."""
        with self._begin() as connection:
            sealed = connection.execute(
                sa.select(credentials.c.sealed).where(
                    credentials.c.label == label, credentials.c.kind == KIND_NAME_PASSWORD
                )
            ).scalar()
        if sealed is None:
            raise NotFound(
                f"there are no credentials for {label!r}",
                next_step=f"Import the two-line credentials file: zesty import FILE --provider {label!r}",
            )
        return _unpack(self.seal.open(sealed, f"{label}/{KIND_NAME_PASSWORD}"))

    def forget_credentials(self, label: str) -> None:
        """Remove what is kept under a label; :class:`NotFound` where there is nothing."""
        with self._begin() as connection:
            if connection.execute(sa.delete(credentials).where(credentials.c.label == label)).rowcount == 0:
                raise NotFound(f"there are no credentials for {label!r}", next_step="See `zesty credentials list`.")

    def reseal(self, new: Seal) -> int:
        """Seal every secret anew under another key, in one transaction. The number of secrets."""
        with self._begin() as connection:
            rows = connection.execute(sa.select(credentials)).all()
            for row in rows:
                subject = f"{row.label}/{row.kind}"
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
    cursor.close()


def _profile_row(profile: Profile, text: str, origin: str, now: str) -> dict[str, str]:
    from zesty_burrow.core.profile.text import digest

    return {
        "name": profile.name,
        "provider": profile.provider,
        "country": profile.country,
        "city": profile.city,
        "protocol": profile.tunnel.protocol,
        "digest": digest(text),
        "text": text,
        "origin": origin,
        "imported_at": now,
    }


def _pack(value: NamePassword) -> bytes:
    return json.dumps({"name": value.name, "password": value.password.text()}).encode()


def _unpack(data: bytes) -> NamePassword:
    from zesty_burrow.core.eap.peer import NamePassword
    from zesty_burrow.core.secret import Secret

    document = json.loads(data)
    return NamePassword(document["name"], Secret(document["password"]))
