"""Tables of known ways: by a packet's two addresses, what it belongs to.

A table has a place for each pair of addresses that a sum of theirs chooses; a newer pair takes it from an older one.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.core.compiled.octets import TCP, compiled, get16, part

WAYS, WAY = 256, 40
"""Places; octets of each: how many octets of addresses there are, those, and behind them what they belong to."""
BELONGS = 33
OPENS = 0x02
"""TCP's SYN."""


@part
def addresses_at(octets: Any, at: Any, length: Any) -> Any:
    """Where a packet's two addresses are, and how many octets they have; none where it is no IP packet."""
    version = octets[at] >> 4
    if version == 4 and length >= 20:
        return at + 12, 8
    if version == 6 and length >= 40:
        return at + 8, 32
    return at, 0


@part
def place_of(octets: Any, begin: Any, width: Any) -> Any:
    half, behind = begin + width // 2 - 1, begin + width - 1
    low, high = np.int64(octets[half]) + 37 * np.int64(octets[behind]), np.int64(octets[half - 1])
    return low + 5 * high + 11 * np.int64(octets[behind - 1]) & WAYS - 1


@part
def way_of(ways: Any, octets: Any, at: Any, length: Any) -> Any:
    """What a packet belongs to by its addresses; -1 where that is not known."""
    begin, width = addresses_at(octets, at, length)
    if not width:
        return -1
    row = place_of(octets, begin, width)
    if ways[row, 0] != width:
        return -1
    found = np.uint8(0)
    for index in range(width):
        found |= octets[begin + index] ^ ways[row, 1 + index]
    return np.int64(ways[row, BELONGS]) if found == 0 else -1


@compiled("void(u1[:, ::1], u1[::1], i8, i8, i8)")
def learn(ways: Any, octets: Any, at: Any, length: Any, belongs: Any) -> None:
    """What goes with this packet's addresses belongs there from now on."""
    begin, width = addresses_at(octets, at, length)
    if width:
        row = place_of(octets, begin, width)
        ways[row, 0], ways[row, BELONGS] = width, belongs
        for index in range(width):
            ways[row, 1 + index] = octets[begin + index]


@part
def opens_tcp(octets: Any, at: Any, length: Any) -> Any:
    """Whether a packet opens a TCP connection, so that its segment size is to be looked at."""
    version = octets[at] >> 4
    start = (np.int64(octets[at]) & 0xF) * 4 if version == 4 else 40
    if length < start + 20 or start < 20:
        return False
    return octets[at + (9 if version == 4 else 6)] == TCP and octets[at + start + 13] & OPENS != 0


@part
def class_at(octets: Any, at: Any) -> Any:
    first = get16(octets, at)
    return first >> 4 & 0xFF if first >> 12 == 6 else first & 0xFF
