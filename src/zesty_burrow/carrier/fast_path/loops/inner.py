"""Loops over the headers of inner packets: addresses, selectors, congestion marks, TCP's segment size."""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.octets import MODULUS, TCP, fold, get16, part, put, word_sum
from zesty_burrow.carrier.fast_path.loops.records import Octets, Record, Records

SYN, MSS_OPTION = 0x02, 2
NOT_ECT, ECT1, ECT0, CE = 0, 1, 2, 3
"""RFC 3168 §5."""


@part
def addresses_at(octets: Octets, at: Any, length: Any) -> Any:
    """Where a packet's two addresses are, and how many octets each has; 0 where it is no IP packet."""
    version = octets[at] >> 4
    if version == 4 and length >= 20:
        return at + 12, 4
    if version == 6 and length >= 40:
        return at + 8, 16
    return at, 0


@part
def lies_within(octets: Octets, at: Any, width: Any, low: Octets, high: Octets) -> Any:
    """Whether an address lies between two others, both included."""
    for index in range(width):
        if octets[at + index] != low[index]:
            if octets[at + index] < low[index]:
                return False
            break
    for index in range(width):
        if octets[at + index] != high[index]:
            return octets[at + index] < high[index]
    return True


@part
def allowed(octets: Octets, local: Any, remote: Any, width: Any, sa: Record, ranges: Records) -> Any:
    """Whether an SA may carry a packet between these addresses (RFC 4301 §5.1, §5.2)."""
    version, good_local, good_remote = (4 if width == 4 else 6), False, False
    for index in range(sa.range_begin, sa.range_end):
        row = ranges[index]
        if row.version != version:
            continue
        if row.remote:
            good_remote = good_remote or lies_within(octets, remote, width, row.start, row.end)
        else:
            good_local = good_local or lies_within(octets, local, width, row.start, row.end)
    return good_local and good_remote


@part
def class_at(octets: Octets, at: Any) -> Any:
    """A packet's traffic class."""
    first = get16(octets, at)
    return first >> 4 & 0xFF if first >> 12 == 6 else first & 0xFF


@part
def take_congestion(octets: Octets, at: Any, length: Any, mark: Any) -> Any:
    """Hand the outer header's ECN on to the inner one (RFC 6040 §4.2); False where the packet has to be dropped."""
    inner, outer = class_at(octets, at), mark & 3
    if inner & 3 == NOT_ECT:
        return outer != CE
    if outer == CE or (outer == ECT1 and inner & 3 == ECT0):
        if octets[at] >> 4 == 4:
            octets[at + 1] = inner & 0xFC | outer
            put(octets, at + 10, 0, 2)
            size = min((np.int64(octets[at]) & 0xF) * 4, length)
            put(octets, at + 10, MODULUS - fold(word_sum(octets, at, size)), 2)
        else:
            octets[at + 1] = octets[at + 1] & 0xCF | outer << 4
    return True


@part
def clamp(octets: Octets, at: Any, length: Any, mtu: Any) -> None:
    """Lower the MSS that a TCP SYN asks for to what fits (RFC 9293 §3.7.1), and adjust its checksum (RFC 1624 §3)."""
    version = octets[at] >> 4
    begin = (np.int64(octets[at]) & 0xF) * 4 if version == 4 else 40
    if begin < 20 or length < begin + 20 or octets[at + (9 if version == 4 else 6)] != TCP:
        return
    start = at + begin
    if (version == 4 and get16(octets, at + 6) & 0x1FFF) or not octets[start + 13] & SYN:
        return
    most = max(mtu - (40 if version == 4 else 60), 0)
    place, end = start + 20, min(start + (np.int64(octets[start + 12]) >> 4) * 4, at + length)
    while place + 1 < end and octets[place]:
        if octets[place] == 1:
            place += 1
            continue
        size = np.int64(octets[place + 1])
        if octets[place] == MSS_OPTION and size == 4 and place + 4 <= end:
            lower(octets, start, place + 2, most)
            return
        place += max(size, 2)


@part
def lower(octets: Octets, start: Any, place: Any, most: Any) -> None:
    """Put another number in an option of a TCP header that begins at ``start``, where it is lower."""
    asked = get16(octets, place)
    if asked <= most:
        return
    put(octets, place, most, 2)
    before, after = asked, most
    if (place - start) & 1:
        # At an odd octet its two octets belong to different words (RFC 1071 §2.B).
        before, after = before >> 8 | (before & 0xFF) << 8, after >> 8 | (after & 0xFF) << 8
    total = (get16(octets, start + 16) ^ MODULUS) + (before ^ MODULUS) + after
    value = total % MODULUS
    put(octets, start + 16, MODULUS - (value if value else MODULUS), 2)
