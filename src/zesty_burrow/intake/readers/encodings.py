"""Text from a stranger's octets: by its byte order mark, as UTF-8, or as what such octets usually are."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

from zesty_burrow.errors import Malformed

MARKS = (
    (b"\xef\xbb\xbf", "utf-8-sig"),
    (b"\xff\xfe\x00\x00", "utf-32"),
    (b"\x00\x00\xfe\xff", "utf-32"),
    (b"\xff\xfe", "utf-16"),
    (b"\xfe\xff", "utf-16"),
)
SAMPLE = 4096
MANY = 0.4
"""Share of zero octets in every other place by which UTF-16 without a mark is known: text in Latin letters has more."""
NOT_IN_TEXT = frozenset(range(32)) - {9, 10, 12, 13, 27}
WESTERN = ("cp1252", "latin-1")
"""What most older programs write that say nothing; the second knows every octet."""


class Decoded(NamedTuple):
    """``guessed``: the encoding's name where the octets do not tell it for certain; else empty."""

    text: str
    guessed: str = ""


@lru_cache(maxsize=2)
def decode_untrusted(data: bytes, name: str) -> Decoded:
    """A file's text; the last one is cached. Raises :class:`Malformed` with the file's name."""
    for mark, encoding in MARKS:
        if data.startswith(mark):
            try:
                return Decoded(data.decode(encoding))
            except UnicodeDecodeError as problem:
                why = f"octet {problem.start} is not {encoding.upper()}"
                raise Malformed(f"{name} is not text", why=why) from None
    wide = _utf_16(data[:SAMPLE])
    if wide:
        try:
            return Decoded(data.decode(wide), wide.upper())
        except UnicodeDecodeError:
            pass
    try:
        return Decoded(data.decode("utf-8"))
    except UnicodeDecodeError as problem:
        if not NOT_IN_TEXT.isdisjoint(data):
            raise Malformed(f"{name} is not text", why=f"octet {problem.start} is not UTF-8") from None
    for encoding in WESTERN:
        try:
            return Decoded(data.decode(encoding), encoding)
        except UnicodeDecodeError:
            continue
    raise Malformed(f"{name} is not text", why="it is in no known encoding")


def _utf_16(sample: bytes) -> str:
    """UTF-16 without a mark, by its zero octets; empty where it is not."""
    pairs = len(sample) // 2
    if pairs < 4:
        return ""
    first, second = sample[: 2 * pairs : 2].count(0), sample[1 : 2 * pairs : 2].count(0)
    if second > MANY * pairs and not first:
        return "utf-16-le"
    return "utf-16-be" if first > MANY * pairs and not second else ""
