"""Loops over packets in capsules of a byte stream (RFC 9297 §3.2): into the stream in one piece, and out of it."""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops import records
from zesty_burrow.carrier.fast_path.loops.device import write_joined
from zesty_burrow.carrier.fast_path.loops.inner import addresses_at
from zesty_burrow.carrier.fast_path.loops.join import ROW as JOIN_ROW
from zesty_burrow.carrier.fast_path.loops.join import join_stretch
from zesty_burrow.carrier.fast_path.loops.octets import TCP, compiled, copy, part, put, same
from zesty_burrow.carrier.fast_path.loops.records import Octets, Receiving
from zesty_burrow.carrier.fast_path.loops.split import finish, split

LONGEST = 65535 + 8
"""Octets of a capsule with a packet at most."""
MORE, CONTROL, UNKNOWN = 0, 1, 2
"""Why the loop has ended: the rest is yet to come; a capsule without a packet; a packet between unknown addresses."""
PAIR = 33
"""Octets of a known pair of addresses: how many each has, and both."""
_OCTETS: Octets = np.zeros(1, np.uint8)
_NUMBERS = np.zeros(1, np.int64)
_RECEIVING = Receiving(_OCTETS, _NUMBERS, np.zeros((1, JOIN_ROW), np.int64), np.zeros((1, 2), np.int64), _OCTETS)


@part
def head(octets: Any, at: Any, length: Any) -> Any:
    """What is in front of a packet of some length: type, length, context 0; how many octets."""
    octets[at] = 0
    if length + 1 < 64:
        put(octets, at + 1, length + 1, 1)
        octets[at + 2] = 0
        return 3
    if length + 1 < 1 << 14:
        put(octets, at + 1, (length + 1) | 1 << 14, 2)
        octets[at + 3] = 0
        return 4
    put(octets, at + 1, (length + 1) | 2 << 30, 4)
    octets[at + 5] = 0
    return 6


@compiled(_OCTETS, 0, 0, 0, _OCTETS, 0)
def frame(source: Any, at: Any, length: Any, limit: Any, out: Any, place: Any) -> Any:
    """Put a packet that the device has given, with the offload header before it, into capsules from ``place`` on.

    How many packets, the octets in them, and where the capsules end; 0 packets where Python has to look at it.
    """
    nothing = np.int64(0), np.int64(0), np.int64(place)
    flags, kind = np.int64(source[at - 10]), np.int64(source[at - 9]) & 0x7F
    transport = np.int64(source[at - 4]) | np.int64(source[at - 3]) << 8
    if not kind:
        if length > limit:
            return nothing
        begin = place + head(out, place, length)
        copy(out, begin, source, at, length)
        if flags & 1:
            field = np.int64(source[at - 2]) | np.int64(source[at - 1]) << 8
            if transport + field + 2 > length:
                return nothing
            finish(out, begin, 0, 1, length, transport, field)
        return np.int64(1), np.int64(length), np.int64(begin + length)
    version, size = np.int64(source[at] >> 4), np.int64(source[at - 6]) | np.int64(source[at - 5]) << 8
    protocol, least = (17, transport + 8) if kind == 5 else (TCP, transport + 20)
    fits = kind == 5 or kind == (1 if version == 4 else 4)
    if not fits or not size or transport & 3 or transport < (20 if version == 4 else 40) or least > min(length, 120):
        return nothing
    headers = transport + np.int64(source[at + transport + 12] >> 4) * 4 if protocol == TCP else least
    whole = headers + size
    if not least <= headers < length or whole > limit or whole + 1 < 64 or whole + 1 >= 1 << 14:
        return nothing
    count = (length - headers + size - 1) // size
    if place + count * (whole + 6) > len(out):
        return nothing
    stride = whole + 4
    if count > 1:
        split(source, at, length, version, protocol, transport, headers, size, 0, count - 1, out, place + 4, stride)
        for index in range(count - 1):
            head(out, place + index * stride, whole)
    # The last one may be shorter, and so may be what is in front of it.
    end = place + (count - 1) * stride
    rest = length - (count - 1) * size
    end += head(out, end, rest)
    split(source, at, length, version, protocol, transport, headers, size, count - 1, 1, out, end, 0)
    return np.int64(count), np.int64((count - 1) * whole + rest), np.int64(end + rest)


@part
def read_head(octets: Any, at: Any, end: Any) -> Any:
    """Where a capsule's packet begins and how long it is; -1 where more is to come, -2 for what is not for the loop."""
    if at + 2 > end:
        return np.int64(at), np.int64(-1)
    if octets[at]:
        return np.int64(at), np.int64(-2)
    width = np.int64(1) << np.int64(octets[at + 1] >> 6)
    if width == 8:
        return np.int64(at), np.int64(-2)
    begin = at + 1 + width
    if begin > end:
        return np.int64(at), np.int64(-1)
    length = np.int64(octets[at + 1] & 0x3F)
    for index in range(1, width):
        length = length << 8 | np.int64(octets[at + 1 + index])
    if length > LONGEST or not length:
        return np.int64(at), np.int64(-2)
    if begin + length > end:
        return np.int64(at), np.int64(-1)
    if octets[begin]:
        return np.int64(at), np.int64(-2)
    return np.int64(begin + 1), length - 1


@part
def is_known(octets: Any, at: Any, width: Any, pairs: Any, count: Any) -> Any:
    """Whether packets between these addresses may come in."""
    for row in range(count):  # noqa: SIM110  (the compiler has no generators)
        if pairs[row, 0] == width and same_row(octets, at, pairs, row, 2 * width):
            return True
    return False


@part
def same_row(octets: Any, at: Any, pairs: Any, row: Any, width: Any) -> Any:
    found = np.uint8(0)
    for index in range(width):
        found |= octets[at + index] ^ pairs[row, 1 + index]
    return found == 0


@compiled(np.zeros(1, records.STATE), _RECEIVING, 0, 0, np.zeros((1, PAIR), np.uint8), 0, np.zeros(3, np.int64))
def deliver(states: Any, receiving: Any, at: Any, end: Any, pairs: Any, known: Any, counts: Any) -> Any:
    """Hand the device the packets of the capsules from ``at`` to ``end``, joined where they go together.

    Why it has ended, and where. ``counts``: packets and octets so far, of which the caller knows the sense.
    """
    state, octets, lengths = states[0], receiving.inbox, receiving.lengths
    most = len(lengths)
    while True:
        first, length = read_head(octets, at, end)
        if length < 0:
            return np.int64(MORE if length == -1 else CONTROL), np.int64(at)
        begin, width = addresses_at(octets, first, length)
        if not width or not is_known(octets, begin, width, pairs, known):
            return np.int64(UNKNOWN), np.int64(at)
        gap, number, last = first - at, 1, length
        lengths[0] = length
        behind = first + length
        while number < most and last == length:
            place, own = read_head(octets, behind, end)
            if own <= 0 or own > length or place - behind != gap:
                break
            there, _ = addresses_at(octets, place, own)
            if there - place != begin - first or own < there - place + 2 * width:
                break
            if not same(octets, there, begin, 2 * width):
                break
            lengths[number] = last = own
            number += 1
            behind = place + own
        stride = length + gap
        found = join_stretch(
            octets,
            first,
            number,
            stride,
            length,
            last,
            state.joins_tcp != 0,
            state.joins_udp != 0,
            receiving.joined,
            0,
            0,
        )
        write_joined(state, receiving, found, first, stride)
        counts[0] += number
        counts[1] += (number - 1) * length + last
        at = behind
