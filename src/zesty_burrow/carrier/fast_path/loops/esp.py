"""Loops over ESP packets (RFC 4303) with a combined-mode cipher of nonces of twelve octets (RFC 4106, RFC 7634).

Nothing here raises: what a stranger has sent is only read within the datagrams that the caller has measured.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path import symbols
from zesty_burrow.carrier.fast_path.loops.octets import copy, get16, get32, part, put
from zesty_burrow.carrier.fast_path.loops.records import Octets, Packets, Record
from zesty_burrow.core.esp.replay import WINDOW, WORDS

init, control, update, final = symbols.init, symbols.control, symbols.update, symbols.final
GET_TAG, SET_TAG = symbols.GET_TAG, symbols.SET_TAG
NEXT_IPV4, NEXT_IPV6, NEXT_NONE, NEXT_UDP = 4, 41, 59, 17
LEFT, REJECTED, NOT_SOUND = -3, -2, -1
"""Of a datagram: it is left to Python, as it came; it was not authentic; what was inside is malformed."""
SHORTEST = 34
"""Octets of an ESP packet with nothing inside: header, IV, trailer and ICV."""
SCRATCH, IN_FRONT_AT = 128, 64
"""Octets in which nonces and what is authenticated besides are put together; where what is in front of a packet is."""
UDP_SIZE, PPP_IPV4, PPP_IPV6 = 8, 0x0021, 0x0057
"""In front of a packet of L2TP (RFC 3193): a header of UDP first, the protocol's number of PPP last."""
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
    besides, rest, front = own + 16, own + 48, sa.in_front
    following = NEXT_IPV6 if octets[at] >> 4 == 6 else NEXT_IPV4
    whole = length + front
    if front:
        copy(scratch, IN_FRONT_AT, sa.front, 0, front)
        put(scratch, IN_FRONT_AT + 4, whole, 2)
        put(scratch, IN_FRONT_AT + front - 2, PPP_IPV6 if following == NEXT_IPV6 else PPP_IPV4, 2)
        following = NEXT_UDP
    # RFC 4303 §2.4: padding counts up from one; behind it their number and the next header.
    pad = -(whole + 2) & 3
    size, step = length + pad + 2, sealed_size(whole)
    copy(scratch, 0, sa.salt, 0, 4)
    number = np.int64(state.sequence)
    # Whatever becomes of them, these numbers are used.
    state.sequence += np.uint64(count)
    state.packets += np.uint64(count)
    state.octets += np.uint64(count * whole)
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
        if front:
            good &= update(sa.context, start, rest, own + IN_FRONT_AT, front)
        good &= update(sa.context, start + front, rest, base + at + index * stride, size)
        good &= final(sa.context, start + front + size, rest)
        good &= control(sa.context, GET_TAG, 16, start + front + size)
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
    """Of an opened packet of ``size`` octets (RFC 4303 §2.4 to §2.6); 0 if it holds none."""
    length, following = size - 34 - np.int64(octets[place + size - 18]), octets[place + size - 17]
    version = octets[place + 16] >> 4
    if following == NEXT_NONE and length >= 0:
        return np.int64(0)
    if length > 0 and ((following == NEXT_IPV4 and version == 4) or (following == NEXT_IPV6 and version == 6)):
        return length
    return np.int64(NOT_SOUND)


@part
def bring_forward(sa: Record, octets: Octets, place: Any, size: Any) -> Any:
    """Put the packet of an opened one of ``size`` octets where one of tunnel mode would be; its length.

    0 where nothing is inside; ``LEFT`` where it is no plain packet: a message, or one that the line itself has sent.
    """
    begin, front = place + 16, sa.in_front
    whole, following = size - 34 - np.int64(octets[place + size - 18]), octets[place + size - 17]
    if following == NEXT_NONE and whole >= 0:
        return np.int64(0)
    length = whole - front
    if following != NEXT_UDP or length < 20 or get16(octets, begin + 4) != whole:
        return np.int64(LEFT)
    for index in range(2, front - 2):
        # The sender's port, and what UDP has of length and checksum, are not compared.
        if (index < 4 or index >= UDP_SIZE) and octets[begin + index] != sa.front[index]:
            return np.int64(LEFT)
    packet, kind = begin + front, get16(octets, begin + front - 2)
    version = octets[packet] >> 4
    is_v6 = kind == PPP_IPV6 and version == 6 and length >= 40
    if not (is_v6 or (kind == PPP_IPV4 and version == 4)):
        return np.int64(LEFT)
    if is_v6 and octets[packet + 8] == 0xFE and octets[packet + 9] & 0xC0 == 0x80:
        return np.int64(LEFT)
    copy(octets, begin, octets, packet, length)
    return length


@part
def unseal(sa: Record, state: Record, octets: Octets, place: Any, size: Any, scratch: Octets) -> Any:
    """Open an ESP packet of ``size`` octets in place: the length of the inner packet, which begins 16 octets further.

    0 where there is none, ``NOT_SOUND``, ``REJECTED`` or ``LEFT``. Counts, and records its number.
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
    if sa.in_front:
        length = bring_forward(sa, octets, place, size)
        if length == LEFT:
            # A stream is put over it once more: it is sealed as it came (the cipher's mode is CTR, or ChaCha20).
            init(sa.context, 0, 0, 0, own, -1)
            update(sa.context, start + 16, rest, start + 16, size - 32)
            return length
    else:
        length = inner_length(octets, place, size)
    accept(state, number)
    if length < 0:
        state.rejected += np.uint64(1)
        return length
    state.packets += np.uint64(1)
    state.octets += np.uint64(length + sa.in_front if length else 0)
    return length
