"""Gateways that a text names among its words: in columns, in a list, or in a sentence, each with its place.

``Lisbon   lisbon.quillwort.example`` and "the one in Nairobi is nairobi.quillwort.example" name one each. A host counts
where a place stands beside it, or where its own name is one; addresses of web pages and of mail do not count.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from typing import NamedTuple

from zesty_burrow.intake.readers.places import NamedPlace, place_in_name
from zesty_burrow.intake.readers.tables import HOST_NAME, RULE

MAX_LINES = 10_000
MAX_LINE = 1000
FEWEST = 2
"""Named hosts that make a text a list of gateways."""
_WORD = re.compile(r"[^\s,;()<>\[\]{}|\"'=]+")
_NOT_GATEWAYS = ("www.", "mail.", "smtp.", "imap.", "support.", "help.", "portal.", "web.", "status.", "docs.")


class NamedHost(NamedTuple):
    """A host in a line of text, and the place that the words around it name."""

    host: str
    place: NamedPlace
    line: int


def named_hosts(text: str, without: Collection[int] = ()) -> Iterator[NamedHost]:
    """All hosts outside the lines of ``without`` (numbers from 1), in their order."""
    for number, line in enumerate(text.splitlines()[:MAX_LINES], start=1):
        if number not in without and len(line) <= MAX_LINE and "." in line and not RULE.match(line):
            yield from _in_line(line, number)


def _in_line(line: str, number: int) -> Iterator[NamedHost]:
    found = [match for match in _WORD.finditer(line) if _is_gateway(_bare(match[0]))]
    for position, match in enumerate(found):
        before = line[found[position - 1].end() if position else 0 : match.start()]
        after = line[match.end() : found[position + 1].start() if position + 1 < len(found) else len(line)]
        host = _bare(match[0]).lower()
        # What stands in parentheses behind it is about it; else the words before it are, else those behind it.
        aside = re.match(r"[\s.,:-]*\(([^)]*)\)", after)
        around = [aside[1] if aside else "", before, *([after] if len(found) == 1 else [])]
        place = NamedPlace()
        for words in around:
            seen = place_in_name(f"{_plain(words)}.") if words.strip() else NamedPlace()
            place = NamedPlace(place.country or seen.country, place.city or seen.city)
        own = place_in_name(host.partition(".")[0])
        if own.city and not place.city and place.country in ("", own.country):
            place = own
        yield NamedHost(host, place, number)


def _plain(words: str) -> str:
    """Words as a file's name would have them."""
    return re.sub(r"[^\w\s-]+", " ", words).replace("_", " ")


def _bare(word: str) -> str:
    return word.strip(".:!?").removesuffix(":500")


def _is_gateway(word: str) -> bool:
    return "@" not in word and "/" not in word and HOST_NAME.fullmatch(word) is not None and _is_no_page(word)


def _is_no_page(word: str) -> bool:
    plain = word.lower()
    # A sentence's end without a blank behind it ("end.Then") is no host; nor is a file's name.
    return not plain.startswith(_NOT_GATEWAYS) and (plain.count(".") > 1 or word == plain) and not _FILE.search(plain)


_FILE = re.compile(r"\.(?:txt|pdf|docx?|xlsx?|od[st]|csv|html?|zip|pem|crt|cer|der|p12|pfx|key|png|jpe?g|toml|md|exe)$")


def looks_like_list(text: str) -> bool:
    """Whether a text names gateways with their places, two at least."""
    count = 0
    for host in named_hosts(text[:65536]):
        count += bool(host.place.country or host.place.city)
        if count >= FEWEST:
            return True
    return False
