"""Loops over ESP packets (RFC 4303) with a combined-mode cipher of nonces of twelve octets (RFC 4106, RFC 7634).

Nothing here raises: what a stranger has sent is only read within the datagrams that the caller has measured.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path import symbols
from zesty_burrow.carrier.fast_path.loops.octets import copy, get32, part, put
from zesty_burrow.carrier.fast_path.loops.records import Octets, Packets, Record
from zesty_burrow.core.esp.replay import WINDOW, WORDS

init, control, update, final = symbols.init, symbols.control, symbols.update, symbols.final
GET_TAG, SET_TAG = symbols.GET_TAG, symbols.SET_TAG
NEXT_IPV4, NEXT_IPV6, NEXT_NONE = 4, 41, 59
REJECTED, NOT_SOUND = -2, -1
SHORTEST = 34
"""Octets of an ESP packet with nothing inside: header, IV, trailer and ICV."""
SCRATCH = 64
"""Octets in which nonces and what is authenticated besides are put together."""
LAST_WORD = WORDS - 1


@part
def sealed_size(length: Any) -> Any:
    """RFC 4303 §2: header, IV, padding, trailer and ICV around ``length`` octets."""
    return 34 + length + (-(length + 2) & 3)


@part
def seal(sa: Record, state: Record, packets: Packets, to: Octets, place: Any, scratch: Octets) -> Any:
    """Seal packets, ESP packet behind ESP packet, from ``place`` of ``to`` on; whether the cipher library did.

    ``to`` may be where they lie, ``stride`` being the size of the ESP packets then. The IV is the sequence number.
    """
    octets, at, stride, count, length = packets
    base, room, own = octets.ctypes.data, to.ctypes.data, scratch.ctypes.data
    besides, rest = own + 16, own + 48
    following = NEXT_IPV6 if octets[at] >> 4 == 6 else NEXT_IPV4
    # RFC 4303 §2.4: padding counts up from one; behind it their number and the next header.
    pad = -(length + 2) & 3
    size, step = length + pad + 2, sealed_size(length)
    copy(scratch, 0, sa.salt, 0, 4)
    number = np.int64(state.sequence)
    # Whatever becomes of them, these numbers are used.
    state.sequence += np.uint64(count)
    state.packets += np.uint64(count)
    state.octets += np.uint64(count * length)
    for index in range(count):
        number += 1
        behind, header = at + index * stride + length, place + index * step
        for padding in range(pad):
            octets[behind + padding] = padding + 1
        octets[behind + pad], octets[behind + pad + 1] = pad, following
        put(to, header, sa.spi, 4)
        put(to, header + 4, number & 0xFFFFFFFF, 4)
        put(to, header + 8, number, 8)
        copy(scratch, 4, to, header + 8, 8)
        if sa.extended:
            put(scratch, 16, sa.spi, 4)
            put(scratch, 20, number, 8)
        start = room + header + 16
        good = init(sa.context, 0, 0, 0, own, -1)
        good &= update(sa.context, 0, rest, besides if sa.extended else start - 16, 12 if sa.extended else 8)
        good &= update(sa.context, start, rest, base + at + index * stride, size)
        good &= final(sa.context, start + size, rest)
        good &= control(sa.context, GET_TAG, 16, start + size)
        if good != 1:
            return False
    return True


@part
def whole_number(state: Record, low: Any) -> Any:
    """The 64-bit number whose lower half came (RFC 4303 §A2.1, §A2.2)."""
    highest = np.int64(state.highest)
    top_low, top_high = highest & 0xFFFFFFFF, highest >> 32
    bottom_low = (top_low - WINDOW + 1) & 0xFFFFFFFF
    high: Any = top_high
    if top_low >= WINDOW - 1:
        if low < bottom_low:
            high = top_high + 1
    elif low >= bottom_low and top_high:
        # The window lies across a multiple of 2^32.
        high = top_high - 1
    return np.int64(min(high, 0x7FFFFFFF)) << 32 | low


@part
def may_be_new(state: Record, number: Any) -> Any:
    """RFC 4303 §3.4.3: before the integrity check."""
    behind = np.int64(state.highest) - number
    if behind < 0:
        return True
    if number <= 0 or behind >= WINDOW:
        return False
    return state.bits[number >> 6 & LAST_WORD] >> np.uint64(number & 63) & np.uint64(1) == np.uint64(0)


@part
def accept(state: Record, number: Any) -> None:
    """RFC 4303 §3.4.3: after the integrity check."""
    word, last = number >> 6, np.int64(state.highest) >> 6
    bits = state.bits
    if number > np.int64(state.highest):
        for index in range(last + 1, last + 1 + min(word - last, WORDS)):
            bits[index & LAST_WORD] = np.uint64(0)
        state.highest = np.uint64(number)
    bits[word & LAST_WORD] |= np.uint64(1) << np.uint64(number & 63)


@part
def inner_length(octets: Octets, place: Any, size: Any) -> Any:
    """Of an opened packet of ``size`` octets (RFC 4303 §2.4 to §2.6); 0 where there is none inside."""
    length, following = size - 34 - np.int64(octets[place + size - 18]), octets[place + size - 17]
    version = octets[place + 16] >> 4
    if following == NEXT_NONE and length >= 0:
        return np.int64(0)
    if length > 0 and ((following == NEXT_IPV4 and version == 4) or (following == NEXT_IPV6 and version == 6)):
        return length
    return np.int64(NOT_SOUND)


@part
def unseal(sa: Record, state: Record, octets: Octets, place: Any, size: Any, scratch: Octets) -> Any:
    """Open an ESP packet of ``size`` octets in place: the length of the inner packet, which begins 16 octets further.

    0 where there is none, ``NOT_SOUND`` or ``REJECTED``. Counts, and records its number.
    """
    number = np.int64(0)
    if size >= SHORTEST:
        number = get32(octets, place + 4)
        if sa.extended:
            number = whole_number(state, number)
    if not may_be_new(state, number):
        state.rejected += np.uint64(1)
        return np.int64(REJECTED)
    own, start = scratch.ctypes.data, octets.ctypes.data + place
    besides, rest = own + 16, own + 48
    copy(scratch, 0, sa.salt, 0, 4)
    copy(scratch, 4, octets, place + 8, 8)
    if sa.extended:
        put(scratch, 16, sa.spi, 4)
        put(scratch, 20, number, 8)
    good = init(sa.context, 0, 0, 0, own, -1)
    good &= control(sa.context, SET_TAG, 16, start + size - 16)
    good &= update(sa.context, 0, rest, besides if sa.extended else start, 12 if sa.extended else 8)
    good &= update(sa.context, start + 16, rest, start + 16, size - 32)
    if good != 1 or final(sa.context, rest, rest + 8) != 1:
        state.rejected += np.uint64(1)
        return np.int64(REJECTED)
    accept(state, number)
    length = inner_length(octets, place, size)
    if length < 0:
        state.rejected += np.uint64(1)
        return length
    state.packets += np.uint64(1)
    state.octets += np.uint64(length)
    return length
