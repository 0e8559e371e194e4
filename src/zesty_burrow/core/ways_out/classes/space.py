"""Packets as boxes: for each field a set of classes. All that is asked of packets is asked of boxes, exactly."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from operator import and_

from zesty_burrow.core.ways_out.classes.conditions import Condition, Conjunction, Match
from zesty_burrow.core.ways_out.classes.partition import Partition

Box = tuple[int, ...]
"""A set of classes for each field, none empty: all packets whose fields are in them."""


class Space:
    """All packets, with fields of these widths, parted by these conditions. Raises :class:`TooManyClasses`."""

    def __init__(self, widths: Mapping[str, int], conditions: Iterable[Condition]) -> None:
        by_field: dict[str, list[Condition]] = {field: [] for field in widths}
        for condition in conditions:
            by_field[condition.field].append(condition)
        self.fields = tuple(widths)
        self.index = {field: number for number, field in enumerate(self.fields)}
        self.partitions = tuple(Partition(widths[field], by_field[field]) for field in self.fields)
        self.everything: Box = tuple(partition.all for partition in self.partitions)

    def partition(self, field: str) -> Partition:
        return self.partitions[self.index[field]]

    def box(self, conjunction: Conjunction) -> Box | None:
        """The packets for which all of these hold; None for no packet."""
        box = list(self.everything)
        for condition in conjunction:
            number = self.index[condition.field]
            box[number] &= self.partitions[number].mask_of(condition)
            if not box[number]:
                return None
        return tuple(box)

    def boxes(self, match: Match) -> list[Box]:
        """The packets for which one of the conjunctions holds; boxes may have packets in common."""
        return [box for conjunction in match if (box := self.box(conjunction)) is not None]

    def with_field(self, box: Box, field: str, classes: int) -> Box:
        """The same packets with another set of classes for a field."""
        number = self.index[field]
        return (*box[:number], classes, *box[number + 1 :])

    def of(self, box: Box, field: str) -> int:
        """A box's classes of a field."""
        return box[self.index[field]]

    def is_whole(self, box: Box, field: str) -> bool:
        """Whether a box says nothing of a field."""
        number = self.index[field]
        return box[number] == self.partitions[number].all

    def members(self, box: Box) -> dict[str, int]:
        """One packet of a box."""
        return {
            field: part.member(box[n]) for n, (field, part) in enumerate(zip(self.fields, self.partitions, strict=True))
        }


def meet(first: Box, second: Box) -> Box | None:
    """The packets in both; None for no packet."""
    met = tuple(map(and_, first, second))
    return met if all(met) else None


def minus(box: Box, taken: Box) -> list[Box]:
    """The packets of a box that are not in another one, as boxes without common packets."""
    inside = meet(box, taken)
    if inside is None:
        return [box]
    parts: list[Box] = []
    rest = list(box)
    for number, kept in enumerate(inside):
        left = rest[number] & ~kept
        if left:
            parts.append((*rest[:number], left, *rest[number + 1 :]))
            rest[number] = kept
    return parts


def minus_all(boxes: Iterable[Box], taken: Iterable[Box]) -> list[Box]:
    """The packets of some boxes that are in none of others."""
    left = list(boxes)
    for one in taken:
        left = [part for box in left for part in minus(box, one)]
    return left


def split(box: Box, wanted: Iterable[Box]) -> tuple[list[Box], list[Box]]:
    """A box in two: the packets that are in one of the wanted boxes, and the others."""
    inside: list[Box] = []
    outside = [box]
    for one in wanted:
        further = []
        for part in outside:
            met = meet(part, one)
            if met is None:
                further.append(part)
            else:
                inside.append(met)
                further += minus(part, one)
        outside = further
    return inside, outside
