"""Rows of a store, as lists show them, and which of them match."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from zesty_burrow.intake.readers.places import country_code, folded, other_spelling
from zesty_burrow.records import dataclass

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile

PEM_MARK = "-----BEGIN CERTIFICATE-----"
HEAD = 14
"""The newest migration."""
OWN, MACHINE = "me", "machine"
"""Whose a store is."""


@dataclass(frozen=True, slots=True)
class ProfileRow:
    """What a list shows of a profile, without reading its text.

    ``label``: whose credentials it uses; ``needs``: of which kinds, with commas; ``lacks``: "authority" where nothing
    is there to prove its gateway with.
    """

    name: str
    provider: str
    country: str
    city: str
    protocol: str
    digest: str
    origin: str
    imported_at: str
    tags: str
    label: str = ""
    needs: str = ""
    lacks: str = ""


def described(profile: Profile) -> tuple[str, str, str]:
    """A row's ``label``, ``needs`` and ``lacks``."""
    proven = profile.sign_in.gateway != "certificate" or any(PEM_MARK in authority for authority in profile.authorities)
    return profile.credentials_label, ",".join(profile.needs), "" if proven else "authority"


def matching(rows: Iterable[ProfileRow], words: Sequence[str] = (), **where: str) -> list[ProfileRow]:
    """Rows in which all of ``words`` occur in name, provider, country, city, protocol or tags, whatever the case.

    A country or city counts in its other spellings as well; words of one or two letters are whole words. ``where``:
    columns with the value that they must have; ``place`` is a city or a country, ``tag`` one of the tags.
    """
    wanted = {column: _Word(value) for column, value in where.items()}
    found = rows if not wanted else (row for row in rows if all(_has(row, *one) for one in wanted.items()))
    meant = [_Word(word) for word in words]
    return [row for row in found if all(word.occurs(row) for word in meant)]


class _Word:
    """A word that a user looks for: as it is, without accents, and as a country or a city is called here."""

    def __init__(self, text: str) -> None:
        self.text = text.casefold()
        self.folded = folded(text) if not text.isascii() else self.text
        place = other_spelling(text) or country_code(text)
        self.country = place if len(place) == COUNTRY else ""
        self.city = place.casefold() if len(place) > COUNTRY else ""

    def occurs(self, row: ProfileRow) -> bool:
        """Anywhere in what a row shows."""
        if (self.country and self.country == row.country) or (self.city and self.city == row.city.casefold()):
            return True
        texts = [text.casefold() for text in (row.name, row.provider, row.country, row.city, row.protocol, row.tags)]
        if len(self.text) <= COUNTRY:
            return any(self.text in WORDS.split(text) for text in texts)
        if any(self.text in text for text in texts):
            return True
        return any(self.folded in folded(text) for text in texts if not text.isascii())

    def is_place_of(self, row: ProfileRow) -> bool:
        """Whether it is the city or the country of a row."""
        city = row.city.casefold()
        if self.text in (city, row.country.casefold()) or (self.country and self.country == row.country):
            return True
        return bool(city) and (self.city == city or self.folded == (city if city.isascii() else folded(city)))


COUNTRY = 2
WORDS = re.compile(r"[\W_]+")


def in_place(rows: Iterable[ProfileRow], place: str) -> list[ProfileRow]:
    """Rows whose city or country is called so, in any spelling."""
    word = _Word(place)
    return [row for row in rows if word.is_place_of(row)]


def _has(row: ProfileRow, column: str, wanted: _Word) -> bool:
    if column == "tag":
        return wanted.text in row.tags.casefold().split()
    if column == "place":
        return wanted.is_place_of(row)
    return str(getattr(row, column)).casefold() == wanted.text
