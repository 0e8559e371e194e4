"""The values of one field, parted into classes that no condition tells apart.

A set of classes is an integer, a bit for each: sets are met, joined and complemented by single operations.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from zesty_burrow.core.ways_out.classes.conditions import Condition

MOST_CLASSES = 60_000


class TooManyClasses(ValueError):
    """More than can be told apart here."""


class _Cube(NamedTuple):
    """All values that have these bits where the mask has ones."""

    value: int
    mask: int


class Partition:
    """Of a field of ``width`` bits, by the conditions on it. Raises :class:`TooManyClasses`."""

    def __init__(self, width: int, conditions: Iterable[Condition]) -> None:
        self.width = width
        self._full = (1 << width) - 1
        known = self._known = list(dict.fromkeys(conditions))
        self._cubes: list[_Cube] = []
        self._starts: list[int] = []
        self._masks: dict[Condition, int] = {}
        if all(self._is_leading(condition.mask) for condition in known):
            self._by_intervals(known)
        else:
            self._by_cubes(known)
        self.all = (1 << self.size) - 1

    @property
    def size(self) -> int:
        """How many classes there are."""
        return len(self._cubes) or len(self._starts)

    def _is_leading(self, mask: int) -> bool:
        """Whether it has ones first, then zeros."""
        rest = ~mask & self._full
        return rest & (rest + 1) == 0

    def _intervals(self, condition: Condition) -> list[tuple[int, int]]:
        rest = ~condition.mask & self._full
        return [(low, min(high | rest, self._full)) for low, high in condition.ranges if low <= high <= self._full]

    def _by_intervals(self, conditions: Sequence[Condition]) -> None:
        starts = {0}
        for condition in conditions:
            for low, high in self._intervals(condition):
                starts |= {low, high + 1}
        self._starts = sorted(start for start in starts if start <= self._full)
        if len(self._starts) > MOST_CLASSES:
            raise TooManyClasses(f"{len(self._starts)} classes of one field")

    def _by_cubes(self, conditions: Sequence[Condition]) -> None:
        cubes = [_Cube(0, 0)]
        for condition in conditions:
            for wanted in self._cubes_of(condition):
                cubes = [part for cube in cubes for part in _parts(cube, wanted, self.width)]
                if len(cubes) > MOST_CLASSES:
                    raise TooManyClasses(f"{len(cubes)} classes of one field")
        self._cubes = cubes

    def _cubes_of(self, condition: Condition) -> list[_Cube]:
        mask = condition.mask & self._full
        if mask != self._full and not self._is_leading(mask):
            if any(low != high for low, high in condition.ranges):
                raise ValueError("a range of values in bits that do not lead cannot be looked at")
            return [_Cube(low & mask, mask) for low, _ in condition.ranges if low & ~mask & self._full == 0]
        return [cube for low, high in self._intervals(condition) for cube in self._aligned(low, high)]

    def _aligned(self, low: int, high: int) -> list[_Cube]:
        """An interval as blocks of a power of two."""
        cubes = []
        while low <= high:
            size = low & -low or 1 << self.width
            while size > high - low + 1:
                size >>= 1
            cubes.append(_Cube(low, self._full & ~(size - 1)))
            low += size
        return cubes

    def mask_of(self, condition: Condition) -> int:
        """The classes for which a condition holds, which must be one of those that the partition was made of."""
        known = self._masks.get(condition)
        if known is None:
            known = self._look(condition)
            if condition.negated:
                known = self.all & ~known
            self._masks[condition] = known
        return known

    def _look(self, condition: Condition) -> int:
        found = 0
        if self._cubes:
            wanted = self._cubes_of(condition)
            for bit, cube in enumerate(self._cubes):
                if any(cube.value & one.mask == one.value for one in wanted):
                    found |= 1 << bit
            return found
        for low, high in self._intervals(condition):
            first = bisect_left(self._starts, low)
            last = bisect_left(self._starts, high + 1)
            found |= (1 << last) - (1 << first)
        return found

    def class_of(self, value: int) -> int:
        """The class that a value is in, as a set."""
        if self._cubes:
            return next(1 << bit for bit, cube in enumerate(self._cubes) if value & cube.mask == cube.value)
        return 1 << bisect_left(self._starts, value + 1) - 1

    def member(self, classes: int) -> int:
        """A value of the first of these classes: the middle one, which is seldom special by itself."""
        bit = (classes & -classes).bit_length() - 1
        if self._cubes:
            return self._cubes[bit].value
        low = self._starts[bit]
        high = self._starts[bit + 1] - 1 if bit + 1 < len(self._starts) else self._full
        return (low + high) // 2

    def intervals(self, classes: int) -> list[tuple[int, int]]:
        """The values of these classes, in order, where they are intervals; of others the first value of each."""
        if self._cubes:
            return sorted((cube.value, cube.value) for bit, cube in enumerate(self._cubes) if classes >> bit & 1)
        found: list[tuple[int, int]] = []
        while classes:
            first = (classes & -classes).bit_length() - 1
            rest = ~(classes >> first)
            last = first + (rest & -rest).bit_length() - 1
            high = self._starts[last] - 1 if last < len(self._starts) else self._full
            found.append((self._starts[first], high))
            classes = classes >> last << last
        return found

    def masked(self, classes: int) -> list[tuple[int, int]]:
        """Value and mask of each of these classes, where the partition is not one of intervals."""
        return [(cube.value, cube.mask) for bit, cube in enumerate(self._cubes) if classes >> bit & 1]

    def single_values(self, classes: int) -> list[tuple[int, int]]:
        """Of these classes those that are one value alone: class and value."""
        if self._cubes:
            known = [(1 << bit, cube.value) for bit, cube in enumerate(self._cubes) if cube.mask == self._full]
        else:
            ends = [*self._starts[1:], self._full + 1]
            rows = enumerate(zip(self._starts, ends, strict=True))
            known = [(1 << bit, low) for bit, (low, end) in rows if end == low + 1]
        return [(own, value) for own, value in known if classes & own]

    def named(self, classes: int) -> Condition | None:
        """The condition that holds for exactly these classes, if the partition was made of one."""
        return next((known for known in self._known if not known.negated and self.mask_of(known) == classes), None)

    @property
    def is_masked(self) -> bool:
        """Whether conditions look at single bits."""
        return bool(self._cubes)


def _parts(cube: _Cube, wanted: _Cube, width: int) -> list[_Cube]:
    """A cube parted into what lies in another one, and the rest."""
    if (cube.value ^ wanted.value) & cube.mask & wanted.mask:
        return [cube]
    parts, value, mask = [], cube.value, cube.mask
    free = wanted.mask & ~cube.mask
    for bit in range(width - 1, -1, -1):
        one = 1 << bit
        if free & one:
            parts.append(_Cube(value | (~wanted.value & one), mask | one))
            value, mask = value | (wanted.value & one), mask | one
    parts.append(_Cube(value, mask))
    return parts
