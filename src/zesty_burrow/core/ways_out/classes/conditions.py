"""What rules ask of a packet: conditions on its fields, each a set of numbers."""

from __future__ import annotations

from zesty_burrow.records import dataclass

DESTINATION, SOURCE, MARK, USER, PROTOCOL, SOURCE_PORT, PORT, SERVICE, BOUND, ENTRY = (
    "destination",
    "source",
    "mark",
    "user",
    "protocol",
    "source port",
    "port",
    "class of service",
    "bound device",
    "entry",
)
"""Fields of a packet where the kernel chooses its way. ``BOUND``: the device that its program has named, by number, or
0; ``ENTRY``: the device that it came in by, :data:`OWN` for a packet of this machine's own. ``SOURCE`` 0: not chosen
yet.
"""
OWN = 1
"""The number of the loopback device: where the kernel says that packets of its own programs come from."""
WIDTHS = {MARK: 32, USER: 32, PROTOCOL: 8, SOURCE_PORT: 16, PORT: 16, SERVICE: 8, BOUND: 32, ENTRY: 32}
"""Bits of each field; addresses have 32 or 128."""


@dataclass(frozen=True, slots=True)
class Condition:
    """The field, in the bits of the mask, lies in one of the ranges; ``negated``: in none of them.

    ``ranges``: lowest and highest value, both included. ``mask`` -1: all bits. Ranges of several values need a mask of
    leading bits, or all.
    """

    field: str
    ranges: tuple[tuple[int, int], ...]
    mask: int = -1
    negated: bool = False

    @classmethod
    def equals(cls, field: str, value: int, mask: int = -1) -> Condition:
        return cls(field, ((value & mask, value & mask),), mask)

    @classmethod
    def prefix(cls, field: str, value: int, length: int, width: int) -> Condition:
        """A prefix of so many bits of an address."""
        low = value >> (width - length) << (width - length)
        return cls(field, ((low, low | (1 << (width - length)) - 1),))


Conjunction = tuple[Condition, ...]
"""All of them hold."""
Match = tuple[Conjunction, ...]
"""One of the conjunctions holds. ``((),)``: always; ``()``: never."""
ALWAYS: Match = ((),)
