"""Loops over ESP packets (RFC 4303) with a combined-mode cipher of nonces of twelve octets (RFC 4106, RFC 7634).

Nothing here raises: what a stranger has sent is only read within the packets that the caller has measured.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.core.compiled import symbols
from zesty_burrow.core.compiled.octets import compiled, copy, get32, part, put

init, control, update, final = symbols.init, symbols.control, symbols.update, symbols.final
GET_TAG, SET_TAG = symbols.GET_TAG, symbols.SET_TAG
NEXT_IPV4, NEXT_IPV6, NEXT_NONE = 4, 41, 59
NOT_AUTHENTIC, NOT_SOUND = -2, -1
SHORTEST = 34
"""Octets of an ESP packet with nothing inside: header, IV, trailer and ICV."""
MOST_AT_ONCE = 256
"""ESP packets."""
SPACE = 64
"""Octets in which nonces, which begin with a salt, and what is authenticated besides are put together."""


@compiled("i8(i8, u1[::1], i8, i8, u1[::1], i8, i8, i8, i8, i8, u8, u8, i8, u1[::1], b1)")
def seal(
    context: Any,
    source: Any,
    at: Any,
    stride: Any,
    octets: Any,
    place: Any,
    step: Any,
    count: Any,
    length: Any,
    following: Any,
    number: Any,
    counter: Any,
    spi: Any,
    space: Any,
    extended: Any,
) -> Any:
    """Seal ``count`` packets of ``length`` octets, ``stride`` apart from ``at`` of ``source`` on, with their trailers.

    Their ESP packets go to ``octets``, ``step`` apart, the first one's sealed part to ``place``: that may be where they
    lie. ``space`` begins with the salt. How many the cipher library has sealed.
    """
    base, room, own = source.ctypes.data, octets.ctypes.data, space.ctypes.data
    besides, scratch = own + 16, own + 48
    # RFC 4303 §2.4: padding counts up from one; behind it their number and the next header.
    pad = -(length + 2) & 3
    size = length + pad + 2
    for index in range(count):
        begin, rise = place + index * step, np.uint64(index)
        behind = at + index * stride + length
        for padding in range(pad):
            source[behind + padding] = padding + 1
        source[behind + pad], source[behind + pad + 1] = pad, following
        put(octets, begin - 16, spi, 4)
        put(octets, begin - 12, np.int64((number + rise) & np.uint64(0xFFFFFFFF)), 4)
        put(octets, begin - 8, np.int64(counter + rise), 8)
        copy(space, 4, octets, begin - 8, 8)
        if extended:
            put(space, 16, spi, 4)
            put(space, 20, np.int64(number + rise), 8)
        start = room + begin
        good = init(context, 0, 0, 0, own, -1)
        good &= update(context, 0, scratch, besides if extended else start - 16, 12 if extended else 8)
        good &= update(context, start, scratch, base + at + index * stride, size)
        good &= final(context, start + size, scratch)
        good &= control(context, GET_TAG, 16, start + size)
        if good != 1:
            return index
    return count


@compiled("i8(i8, u1[::1], i8, i8, u8[::1], i8[::1], i8, u1[::1], b1, i8[::1])")
def unseal(
    context: Any,
    octets: Any,
    begin: Any,
    size: Any,
    numbers: Any,
    wanted: Any,
    spi: Any,
    space: Any,
    extended: Any,
    held: Any,
) -> Any:
    """Open in place those of the ESP packets of ``size`` octets from ``begin`` on that ``wanted`` lists.

    ``numbers``: the sequence numbers of all of them, which ``extended`` ones are authenticated with. How many ICVs
    hold: the packets' places in the list are in ``held`` then.
    """
    base, own = octets.ctypes.data, space.ctypes.data
    besides, scratch = own + 16, own + 48
    width = size - 32
    authentic = 0
    for index in wanted:
        place = begin + index * size
        copy(space, 4, octets, place + 8, 8)
        if extended:
            put(space, 16, spi, 4)
            put(space, 20, np.int64(numbers[index]), 8)
        start = base + place
        good = init(context, 0, 0, 0, own, -1)
        good &= control(context, SET_TAG, 16, start + size - 16)
        good &= update(context, 0, scratch, besides if extended else start, 12 if extended else 8)
        good &= update(context, start + 16, scratch, start + 16, width)
        if good == 1 and final(context, scratch, scratch + 8) == 1:
            held[authentic] = index
            authentic += 1
    return authentic


@part
def inner_length(octets: Any, place: Any, size: Any) -> Any:
    """Of an opened packet of ``size`` octets (RFC 4303 §2.4 to §2.6); 0 where there is none inside."""
    length, following = size - 34 - np.int64(octets[place + size - 18]), octets[place + size - 17]
    version = octets[place + 16] >> 4
    if following == NEXT_NONE and length >= 0:
        return np.int64(0)
    if length > 0 and ((following == NEXT_IPV4 and version == 4) or (following == NEXT_IPV6 and version == 6)):
        return length
    return np.int64(NOT_SOUND)


@compiled("i8(i8, u1[::1], i8, i8, i8, i8, u8, u1[::1], b1, i8[::1])")
def arrive(
    context: Any,
    octets: Any,
    begin: Any,
    total: Any,
    size: Any,
    spi: Any,
    number: Any,
    space: Any,
    extended: Any,
    lengths: Any,
) -> Any:
    """Open in place ESP packets of ``size`` octets from ``begin`` on, ``total`` octets; the last may be shorter.

    ``number``: the first one's. Those of the others have to count up from there, and all have to name ``spi``, or
    nothing is done and the answer is below 0. ``lengths``: of the inner packets; 0 where there is none, ``NOT_SOUND``
    or ``NOT_AUTHENTIC``. How many are authentic.
    """
    base, own = octets.ctypes.data, space.ctypes.data
    besides, scratch = own + 16, own + 48
    count = (total + size - 1) // size
    if min(size, total - (count - 1) * size) < SHORTEST:
        return np.int64(-1)
    low = get32(octets, begin + 4)
    for index in range(count):
        place = begin + index * size
        if get32(octets, place) != spi or get32(octets, place + 4) != low + index:
            return np.int64(-1)
    authentic = 0
    for index in range(count):
        place = begin + index * size
        own_size = min(size, begin + total - place)
        start, lengths[index] = base + place, NOT_AUTHENTIC
        copy(space, 4, octets, place + 8, 8)
        if extended:
            put(space, 16, spi, 4)
            put(space, 20, np.int64(number + np.uint64(index)), 8)
        good = init(context, 0, 0, 0, own, -1)
        good &= control(context, SET_TAG, 16, start + own_size - 16)
        good &= update(context, 0, scratch, besides if extended else start, 12 if extended else 8)
        good &= update(context, start + 16, scratch, start + 16, own_size - 32)
        if good == 1 and final(context, scratch, scratch + 8) == 1:
            lengths[index] = inner_length(octets, place, own_size)
            authentic += 1
    return authentic
