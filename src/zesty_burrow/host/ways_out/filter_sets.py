"""Sets and maps of the packet filter, as the kernel lists them (linux/netfilter/nf_tables.h)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from zesty_burrow.core.ways_out.classes.conditions import ALWAYS, Condition, Conjunction, Match

INTERVAL_SET, INTERVAL_END = 0x4, 0x1
MOST_ALTERNATIVES = 4096


class ElementRow(NamedTuple):
    """An element of a set: its key, or the lowest and the highest; the verdict or the value that it stands for."""

    key: bytes
    end: bytes
    flags: int
    verdict: int | None
    chain: str
    value: bytes


class SetSeen(NamedTuple):
    """``flags``, ``key_length``: as the kernel has them."""

    flags: int
    key_length: int
    elements: tuple[ElementRow, ...]


def keys_of(known: SetSeen) -> Iterator[tuple[bytes, bytes, ElementRow]]:
    """The lowest and the highest key of each element."""
    if not known.flags & INTERVAL_SET:
        for element in known.elements:
            yield element.key, element.key, element
        return
    if any(element.end for element in known.elements):
        for element in known.elements:
            yield element.key, element.end or element.key, element
        return
    ends = sorted(element.key for element in known.elements if element.flags & INTERVAL_END)
    for element in sorted(known.elements, key=lambda one: one.key):
        if element.flags & INTERVAL_END:
            continue
        after = next((end for end in ends if end > element.key), b"")
        size = len(element.key)
        high = (int.from_bytes(after) - 1).to_bytes(size) if after else b"\xff" * size
        yield element.key, high, element


def one_of(field: str, numbers: list[int]) -> Match:
    """The field has one of these values."""
    return ((Condition(field, tuple((n, n) for n in numbers)),),) if numbers else ()


def none_of(rows: list[Match]) -> Match | None:
    """Where none of the matches holds: of a key of one field by one condition, of others by what is left; None where
    that would be too much.
    """
    flat: list[Conjunction] = [one for row in rows for one in row]
    if all(len(one) == 1 for one in flat) and len({(one[0].field, one[0].mask) for one in flat}) == 1:
        ranges = tuple(span for one in flat for span in one[0].ranges)
        first = flat[0][0]
        return ((Condition(first.field, ranges, first.mask, negated=True),),)
    match: Match = ALWAYS
    for one in flat:
        parts = []
        for number, condition in enumerate(one):
            opposite = Condition(condition.field, condition.ranges, condition.mask, not condition.negated)
            parts += [(*known, *one[:number], opposite) for known in match]
        match = tuple(parts)
        if len(match) > MOST_ALTERNATIVES:
            return None
    return match
