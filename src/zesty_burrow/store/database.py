"""One database by its URL, by plain DB-API (PEP 249): SQLite on disk, or a team's PostgreSQL."""

from __future__ import annotations

import os
import sqlite3
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

from zesty_burrow.errors import Clash, DiskFull, StateError
from zesty_burrow.extras import extra

if TYPE_CHECKING:
    import psycopg

WAIT = 5.0
"""Seconds to wait for another program's transaction, or for a server's first answer."""
LOCK = 0x7A657374
"""Writers on PostgreSQL take turns by this number (an advisory lock), as they do on SQLite."""
MANY = 500
"""Names in one query."""
Row = tuple[Any, ...]


class Transaction(ABC):
    """What can be done within one; parameters stand for ``?`` in the SQL."""

    @abstractmethod
    def execute(self, sql: str, *parameters: object) -> list[Row]:
        """The rows of a query; none for a change."""

    @abstractmethod
    def change(self, sql: str, *parameters: object) -> int:
        """How many rows a change has touched."""

    @abstractmethod
    def execute_many(self, sql: str, rows: Sequence[Sequence[object]]) -> None:
        """The same change for many rows."""


class Database(ABC):
    """``shown``: its URL without password. ``read_only``: it is somebody else's.

    ``key`` and ``octets``: its words for a row's own number and for octets.
    """

    key: str
    octets: str

    def __init__(self, shown: str) -> None:
        self.shown = shown
        self.read_only = False

    @abstractmethod
    def begin(self, *, write: bool) -> Transaction:
        """Begin a transaction. ``write``: as the only one that changes something."""

    @abstractmethod
    def end(self, *, keep: bool) -> None:
        """Commit, or roll back."""

    @abstractmethod
    def tables(self, transaction: Transaction) -> set[str]:
        """The names of the tables."""

    @abstractmethod
    def close(self) -> None:
        """Close it."""

    @abstractmethod
    def explain(self, problem: Exception) -> StateError | DiskFull | Clash | None:
        """The database's own error as one of ours; None for any other exception."""

    @contextmanager
    def transaction(self, *, write: bool = False) -> Iterator[Transaction]:
        """All of it or nothing; what the database reports becomes one of our errors."""
        try:
            begun = self.begin(write=write)
            try:
                yield begun
            except BaseException:
                with suppress(Exception):  # the first problem is the one to tell
                    self.end(keep=False)
                raise
            self.end(keep=True)
        except Exception as problem:
            told = self.explain(problem)
            if told is None:
                raise
            raise told from None

    def unusable(self, problem: Exception) -> StateError:
        """The store cannot be used, for the reason that the database gives."""
        reason = (str(problem).strip() or type(problem).__name__).splitlines()[0]
        return StateError(
            f"the store {self.shown} cannot be used", why=reason, next_step="Check its path or URL, and its rights."
        )


class _SqliteTransaction(Transaction):
    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def execute(self, sql: str, *parameters: object) -> list[Row]:
        return self._connection.execute(sql, parameters).fetchall()

    def change(self, sql: str, *parameters: object) -> int:
        return self._connection.execute(sql, parameters).rowcount

    def execute_many(self, sql: str, rows: Sequence[Sequence[object]]) -> None:
        self._connection.executemany(sql, rows)


class SqliteDatabase(Database):
    """``mode``: of the file where it is made. ``read_only``: it is somebody else's."""

    key, octets = "INTEGER PRIMARY KEY", "BLOB"

    def __init__(self, path: Path, mode: int = 0o600, *, read_only: bool = False) -> None:
        super().__init__(str(path))
        self._path, self.read_only = path, read_only
        try:
            if not read_only:
                path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
                os.close(os.open(path, os.O_RDWR | os.O_CREAT, mode))
            uri = f"file:{quote(str(path.absolute()))}?mode={'ro' if read_only else 'rw'}"
            self._connection = sqlite3.connect(uri, uri=True, timeout=WAIT, isolation_level=None)
            for setting in ("secure_delete = ON", "temp_store = MEMORY"):
                # Removed secrets are overwritten, and nothing lies in a file of another mode, not even for a moment.
                self._connection.execute(f"PRAGMA {setting}")
        except (OSError, sqlite3.Error) as problem:
            raise self.explain(problem) or self.unusable(problem) from None

    def begin(self, *, write: bool) -> Transaction:
        self._connection.execute("BEGIN IMMEDIATE" if write else "BEGIN")
        return _SqliteTransaction(self._connection)

    def end(self, *, keep: bool) -> None:
        self._connection.execute("COMMIT" if keep else "ROLLBACK")

    def tables(self, transaction: Transaction) -> set[str]:
        return {row[0] for row in transaction.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}

    def close(self) -> None:
        self._connection.close()

    def explain(self, problem: Exception) -> StateError | DiskFull | Clash | None:
        if isinstance(problem, sqlite3.IntegrityError):
            return taken(self.shown, problem)
        if not isinstance(problem, sqlite3.Error):
            return None
        if getattr(problem, "sqlite_errorname", "") == "SQLITE_FULL":
            return DiskFull.at(self._path.parent, "nothing of it was stored")
        return self.unusable(problem)


class _PostgresTransaction(Transaction):
    def __init__(self, connection: psycopg.Connection[Row]) -> None:
        self._connection = connection

    def execute(self, sql: str, *parameters: object) -> list[Row]:
        cursor = self._connection.execute(_numbered(sql), parameters)
        return cursor.fetchall() if cursor.description else []

    def change(self, sql: str, *parameters: object) -> int:
        return self._connection.execute(_numbered(sql), parameters).rowcount

    def execute_many(self, sql: str, rows: Sequence[Sequence[object]]) -> None:
        with self._connection.cursor() as cursor:
            cursor.executemany(_numbered(sql), rows)


def _numbered(sql: str) -> bytes:
    """psycopg's form of the parameters; no statement of ours has a per cent sign or a question mark of its own."""
    return sql.replace("?", "%s").encode()


class PostgresDatabase(Database):
    """``url``: as libpq reads it; passwords come from its password file, or from its service file."""

    key, octets = "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY", "BYTEA"

    def __init__(self, url: str) -> None:
        super().__init__(without_password(url))
        self._committing = False
        with extra("postgresql"):
            import psycopg
        self._psycopg = psycopg
        try:
            psycopg.conninfo.conninfo_to_dict(url)
        except psycopg.Error:
            # What the library says of it quotes the part that it does not understand, which may be the password.
            raise self.unusable(ValueError("its URL is not understood")) from None
        try:
            self._connection = psycopg.connect(url, autocommit=True, connect_timeout=int(WAIT))
        except psycopg.Error as problem:
            raise self.unusable(problem) from None

    def begin(self, *, write: bool) -> Transaction:
        self._committing = False
        self._connection.execute("BEGIN")
        if write:
            self._connection.execute("SELECT pg_advisory_xact_lock(%s)", (LOCK,))
        return _PostgresTransaction(self._connection)

    def end(self, *, keep: bool) -> None:
        self._committing = keep
        self._connection.execute("COMMIT" if keep else "ROLLBACK")

    def tables(self, transaction: Transaction) -> set[str]:
        query = "SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema()"
        return {row[0] for row in transaction.execute(query)}

    def close(self) -> None:
        self._connection.close()

    def explain(self, problem: Exception) -> StateError | DiskFull | Clash | None:
        errors = self._psycopg.errors
        if isinstance(problem, self._psycopg.IntegrityError):
            return taken(self.shown, problem)
        if isinstance(problem, errors.DiskFull):
            return DiskFull.at(Path("the server's disk"), "nothing of it was stored")
        if not isinstance(problem, self._psycopg.Error):
            return None
        if self._connection.closed or self._connection.broken:
            stored = (
                "It may have been stored or not: look before you do it again."
                if self._committing
                else "Nothing of it was stored. Do it again once the server can be reached."
            )
            reason = str(problem).strip().splitlines()[0]
            return StateError(f"the connection to the store {self.shown} was lost", why=reason, next_step=stored)
        return self.unusable(problem)


def taken(shown: str, problem: Exception) -> Clash:
    """What is to be stored is there already: somebody has stored it in the meantime."""
    detail = str(problem).strip().splitlines()[-1]
    return Clash(
        f"the store {shown} has something of that name already",
        why=f"somebody has stored it in the meantime ({detail}); nothing of yours was stored",
        next_step="Do it again: the current content is taken into account.",
    )


def without_password(url: str) -> str:
    """A URL as it may be shown; its options may hold secrets, so they are left out."""
    try:
        parts = urlsplit(url)._replace(query="", fragment="")
        if parts.password is None:
            return parts.geturl()
        host = parts.netloc.rpartition("@")[2]
        return parts._replace(netloc=f"{parts.username}:***@{host}").geturl()
    except ValueError:
        return "of the settings"


def open_database(url: str) -> Database:
    """A database by the URL that the settings name; :class:`StateError` where it cannot be opened."""
    scheme, _, rest = url.partition(":")
    if scheme == "sqlite" and rest.startswith("///"):
        return SqliteDatabase(Path(rest[3:]))
    if scheme in ("postgresql", "postgres"):
        return PostgresDatabase(url)
    raise StateError(
        "the store of the settings cannot be used",
        why=f"its URL is of no kind that is known here{f': {scheme}' if scheme.isalnum() and rest else ''}",
        next_step="There are sqlite:///PATH and postgresql://USER@HOST/DATABASE.",
    )


def in_parts(names: Sequence[str]) -> Iterator[Sequence[str]]:
    """Names in numbers that one query takes."""
    return (names[at : at + MANY] for at in range(0, len(names), MANY))


def placeholders(names: Iterable[str]) -> str:
    """As many question marks, with commas."""
    return ", ".join("?" for _ in names)
