"""Many packets from and to the tunnel device by one call from Python: compiled loops around the system's own calls.

What the device refuses (it is down, or its queue is full) is lost as on any other link.
"""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.core.compiled.esp import arrive, one_way, seal
from zesty_burrow.core.compiled.join import join_all
from zesty_burrow.core.compiled.octets import TCP, compiled, get16, part, put
from zesty_burrow.core.compiled.split import alike, finish
from zesty_burrow.core.compiled.symbols import NUMBER, POINTER, function

_read = function(ctypes.CDLL(None), "read", POINTER, NUMBER, POINTER, POINTER)
_write = function(ctypes.CDLL(None), "write", POINTER, NUMBER, POINTER, POINTER)
_writev = function(ctypes.CDLL(None), "writev", POINTER, NUMBER, POINTER, NUMBER)
LENGTH, OFFLOAD, ROW = 0, 1, 2
"""Of a row: a packet's length, and its offload as one number, 0 for none."""
KIND = 0xFF00
"""Of an offload's number: whether there are many segments."""


@compiled("i8(i4, u1[::1], i8, i8, i8, i8, i8, i8, i8[:, ::1])")
def read_many(
    descriptor: Any,
    octets: Any,
    at: Any,
    stride: Any,
    before: Any,
    room: Any,
    longest: Any,
    most: Any,
    rows: Any,
) -> Any:
    """Read up to ``most`` packets to places ``stride`` apart from ``at`` on; how many there were, a row for each.

    ``before``: octets of an offload header in front. One that is longer than ``longest``, or has many segments, is the
    last, as it may fill the places behind its own: each has ``room`` until the end of ``octets``.
    """
    base, found = octets.ctypes.data, 0
    for index in range(most):
        place = at + index * stride
        length = _read(descriptor, base + place - before, room + before) - before
        if length < 0:
            # Nothing there; or the device is down for the moment.
            break
        number = 0
        if before:
            # VIRTIO 1.2 §5.1.6: flags and kind; behind lengths, where a checksum begins and where it is put.
            number = get16(octets, place - 10) >> 8 & 1 | (get16(octets, place - 10) & 0xFF) << 8
            if number:
                number |= get16(octets, place - 4) << 16 | get16(octets, place - 2) << 32
        rows[index, 0], rows[index, 1] = length, number
        found += 1
        if number & KIND or length > longest:
            break
    return found


@compiled("void(i4, u1[::1], i8, i8, i8[::1], i8[:, ::1], i8, i8, i8, i8[:, ::1])")
def write_rows(
    descriptor: Any,
    octets: Any,
    at: Any,
    stride: Any,
    lengths: Any,
    rows: Any,
    first: Any,
    end: Any,
    before: Any,
    parts: Any,
) -> None:
    """Write what rows ``first`` to before ``end`` of :func:`zesty_burrow.core.compiled.join.join_all` say, in pieces.

    Packets lie ``stride`` apart from ``at`` on, with room for an offload header of ``before`` octets in front.
    ``parts``: room for an address and a length for each packet of a piece.
    """
    base = octets.ctypes.data
    for row in range(first, end):
        one, behind, headers, version, protocol = rows[row]
        lead = at + one * stride
        if not version:
            for index in range(one, behind):
                place = at + index * stride - before
                put(octets, place, 0, before)
                if lengths[index] > 0:
                    _write(descriptor, base + place, before + lengths[index])
            continue
        # VIRTIO 1.2 §5.1.6; little-endian.
        is_tcp, size = protocol == TCP, lengths[one] - headers
        transport = 20 if version == 4 else 40
        place = lead - before
        octets[place] = 0 if is_tcp else 1
        octets[place + 1] = (1 if version == 4 else 4) if is_tcp else 5
        octets[place + 2], octets[place + 3] = headers & 0xFF, headers >> 8
        octets[place + 4], octets[place + 5] = size & 0xFF, size >> 8
        octets[place + 6], octets[place + 7] = 0 if is_tcp else transport, 0
        octets[place + 8], octets[place + 9] = 0 if is_tcp else 6, 0
        parts[0, 0], parts[0, 1] = base + place, before + lengths[one]
        for index in range(one + 1, behind):
            parts[index - one, 0] = base + at + index * stride + headers
            parts[index - one, 1] = lengths[index] - headers
        _writev(descriptor, parts.ctypes.data, behind - one)


# A packet's two addresses as they were last found good: their octets, behind the number of them.
ADDRESSES = 33


@part
def known(octets: Any, at: Any, length: Any, addresses: Any) -> Any:
    """Whether a packet has just these addresses."""
    width = np.int64(addresses[0])
    begin, version = (12, 4) if width == 8 else (8, 6)
    if not width or octets[at] >> 4 != version or length < begin + width:
        return False
    found = np.uint8(0)
    for index in range(width):
        found |= octets[at + begin + index] ^ addresses[1 + index]
    return found == 0


WRITTEN, PACKETS, OCTETS, SUMS = 0, 1, 2, 3
"""What :func:`take_in` says: whether the device has got them; how many packets were sound, and their octets."""


@compiled(
    "i8(i8, i4, u1[::1], i8, i8, i8, i8, u8, u1[::1], b1, "
    "u1[::1], b1, b1, i8, i8[::1], i8[:, ::1], i8[:, ::1], i8[::1])"
)
def take_in(
    context: Any,
    descriptor: Any,
    octets: Any,
    start: Any,
    total: Any,
    size: Any,
    spi: Any,
    number: Any,
    space: Any,
    extended: Any,
    addresses: Any,
    tcp: Any,
    udp: Any,
    before: Any,
    lengths: Any,
    rows: Any,
    parts: Any,
    sums: Any,
) -> Any:
    """:func:`zesty_burrow.core.compiled.esp.arrive`; and write what came, where all of it has the known addresses."""
    authentic = arrive(context, octets, start, total, size, spi, number, space, extended, lengths)
    sums[WRITTEN] = sums[PACKETS] = sums[OCTETS] = 0
    if authentic <= 0:
        return authentic
    count, at, lead = (total + size - 1) // size, start + 16, -1
    for index in range(count):
        if lengths[index] >= 0:
            sums[PACKETS] += 1
            sums[OCTETS] += lengths[index]
        if lengths[index] > 0 and lead < 0:
            lead = index
    if lead < 0 or not known(octets, at + lead * size, lengths[lead], addresses):
        return authentic
    if one_way(octets, at, size, count, lengths):
        found = join_all(octets, at, size, count, lengths, tcp, udp, rows)
        write_rows(descriptor, octets, at, size, lengths, rows, 0, found, before, parts)
        sums[WRITTEN] = 1
    return authentic


SEALED, CLASS = 0, 1
"""What :func:`take_out` says: the octets of each ESP packet, 0 where none was sealed, -1 where the cipher
library refused; and the traffic class inside."""


@compiled(
    "i8(i8, i4, u1[::1], i8, i8, i8, i8, i8, i8, i8[:, ::1], u1[::1], i8, u1[::1], u8, u8, i8, u1[::1], b1, i8[::1])"
)
def take_out(
    context: Any,
    descriptor: Any,
    octets: Any,
    at: Any,
    stride: Any,
    before: Any,
    room: Any,
    longest: Any,
    most: Any,
    rows: Any,
    addresses: Any,
    limit: Any,
    row: Any,
    number: Any,
    counter: Any,
    spi: Any,
    space: Any,
    extended: Any,
    sums: Any,
) -> Any:
    """:func:`read_many`; and seal what was read to ``row``, where all of it is alike and has the known addresses."""
    found = read_many(descriptor, octets, at, stride, before, room, longest, most, rows)
    sums[SEALED] = 0
    if not found:
        return found
    length, offload = rows[0, 0], rows[0, 1]
    if rows[found - 1, 1] & KIND or length > limit or not known(octets, at, length, addresses):
        return found
    if found > 1 and alike(octets, at, stride, 0, found, rows) < found:
        return found
    if offload:
        begin = np.int64(octets[at - 4]) | np.int64(octets[at - 3]) << 8
        field = np.int64(octets[at - 2]) | np.int64(octets[at - 1]) << 8
        if begin + field + 2 > length:
            return found
        finish(octets, at, stride, found, length, begin, field)
    first = get16(octets, at)
    following, sums[CLASS] = (41, first >> 4 & 0xFF) if first >> 12 == 6 else (4, first & 0xFF)
    each = 34 + length + (-(length + 2) & 3)
    lie = octets, at, stride, row, 16, each, found, length, following
    good = seal(context, *lie, number, counter, spi, space, extended) == found
    sums[SEALED] = each if good else -1
    return found
