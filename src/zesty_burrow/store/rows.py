"""Rows of a store, as lists show them, and which of them match."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

HEAD = 4
"""The newest migration."""
OWN, MACHINE = "me", "machine"
"""Whose a store is."""


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
