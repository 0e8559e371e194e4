"""Rows of a store, as lists show them: which of them match, and reading them without the database's library.

That library takes a third of a second to load, which is most of what `zesty list` would take.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

HEAD = "0003"
"""The newest migration."""
OWN, MACHINE = "me", "machine"
"""Whose a store is."""
MAX_NAMES = 2000


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
    tags: str


def matching(rows: Iterable[ProfileRow], words: Sequence[str] = (), **where: str) -> list[ProfileRow]:
    """Rows in which each of ``words`` occurs in name, provider, country, city, protocol or tags, whatever the case.

    ``where``: columns with the value that they must have; ``place`` is a city or a country, ``tag`` one of the tags.
    """
    folded = [word.casefold() for word in words]
    wanted = {column: value.casefold() for column, value in where.items()}
    found = rows if not wanted else (row for row in rows if all(_has(row, *one) for one in wanted.items()))
    return [row for row in found if all(any(word in text for text in _texts(row)) for word in folded)]


def _texts(row: ProfileRow) -> list[str]:
    return [text.casefold() for text in (row.name, row.provider, row.country, row.city, row.protocol, row.tags)]


def _has(row: ProfileRow, column: str, value: str) -> bool:
    if column == "tag":
        return value in row.tags.casefold().split()
    if column == "place":
        return value in (row.city.casefold(), row.country.casefold())
    return str(getattr(row, column)).casefold() == value


def read_rows(path: Path) -> list[ProfileRow] | None:
    """The rows of a store on disk, by name; a store that is not there has none.

    None where only the database's library can read it: a store of an older shape, say.
    """
    if not path.exists():
        return []
    try:
        with sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True) as connection:
            if connection.execute("SELECT version_num FROM alembic_version").fetchall() != [(HEAD,)]:
                return None
            query = f"SELECT {', '.join(ProfileRow.__slots__)} FROM profiles ORDER BY name"  # noqa: S608
            return [ProfileRow(*row) for row in connection.execute(query)]
    except sqlite3.Error:
        return None


def read_names(path: Path, prefix: str) -> list[str]:
    """Up to ``MAX_NAMES`` names that begin with ``prefix``, in their order; none where the store cannot be read."""
    try:
        with sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True) as connection:
            query = "SELECT name FROM profiles WHERE name >= ? AND name < ? ORDER BY name LIMIT ?"
            rows = connection.execute(query, (prefix, prefix + "\U0010ffff", MAX_NAMES)).fetchall()
    except sqlite3.Error:
        return []
    return [row[0] for row in rows]
