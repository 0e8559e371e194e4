"""The loops themselves: sealing, opening, splitting and joining, packet after packet, in buffers of octets.

Compiled when this is first imported, which takes a while, and kept beside it for later. Nothing here raises: what a
stranger has sent is only read within the packets that the caller has measured.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numpy as np
from numba import njit

from zesty_burrow.core.compiled import symbols

init, control, update, final = symbols.init, symbols.control, symbols.update, symbols.final
GET_TAG, SET_TAG = symbols.GET_TAG, symbols.SET_TAG
TCP = 6
FIN, PSH, ACK, ECE, CWR = 0x01, 0x08, 0x10, 0x40, 0x80
MODULUS = 0xFFFF
NEXT_IPV4, NEXT_IPV6, NEXT_NONE = 4, 41, 59
NOT_AUTHENTIC, NOT_SOUND = -2, -1
SHORTEST = 34
"""Octets of an ESP packet with nothing inside: header, IV, trailer and ICV."""
MOST = 64000
"""Octets of a joined packet: below what an IP packet's length can say."""
NO, FULL, LAST = 0, 1, 2
ROW = 5
"""Numbers for each stretch of packets: first, end, octets of headers, IP version and protocol; 0 if each is alone."""
MOST_AT_ONCE = 256
"""ESP packets."""
SPACE = 64
"""Octets in which nonces, which begin with a salt, and what is authenticated besides are put together."""


F = TypeVar("F", bound=Callable[..., Any])


def compiled(signature: str) -> Callable[[F], F]:
    """Machine code for arguments of just these types, kept on disk."""

    def compile_it(function: F) -> F:
        return cast(F, njit(signature, cache=True, error_model="numpy")(function))

    return compile_it


def part(function: F) -> F:
    """What is compiled into the loops that use it."""
    return cast(F, njit(error_model="numpy")(function))


# Places are made unsigned, as a signed one would first be asked whether it counts from the end.


@part
def get16(octets: Any, at: Any) -> Any:
    place = np.uintp(at)
    return np.int64(octets[place]) << 8 | np.int64(octets[place + np.uintp(1)])


@part
def get32(octets: Any, at: Any) -> Any:
    return get16(octets, at) << 16 | get16(octets, at + 2)


@part
def put(octets: Any, at: Any, value: Any, width: Any) -> None:
    for index in range(width):
        octets[np.uintp(at + index)] = value >> 8 * (width - 1 - index) & 0xFF


@part
def copy(octets: Any, at: Any, source: Any, begin: Any, width: Any) -> None:
    to, of = np.uintp(at), np.uintp(begin)
    for index in range(np.uintp(width)):
        octets[to + index] = source[of + index]


@part
def same(octets: Any, at: Any, other: Any, width: Any) -> Any:
    one, two, found = np.uintp(at), np.uintp(other), np.uint8(0)
    for index in range(np.uintp(width)):
        found |= octets[one + index] ^ octets[two + index]
    return found == 0


@part
def word_sum(octets: Any, at: Any, width: Any) -> Any:
    """The sum of the 16-bit words (RFC 1071), as any number that leaves the right remainder by 65535; an odd last octet
    counts as if a zero followed.

    Summed in the machine's order, which is little-endian, and swapped at the end (RFC 1071 §2.B).
    """
    words = octets[at : at + (width & ~3)].view(np.uint32)
    low = high = np.uint32(0)
    for index in range(np.uintp(words.size)):
        word = words[index]
        low += word & np.uint32(MODULUS)
        high += word >> np.uint32(16)
    total = np.int64(low) + np.int64(high)
    for index in range(width & ~3, width):
        total += np.int64(octets[np.uintp(at + index)]) << 8 * (index & 1)
    return total * 256


@part
def fold(total: Any) -> Any:
    while total >> 16:
        total = (total & MODULUS) + (total >> 16)
    return total


# ESP (RFC 4303, RFC 4106, RFC 7634).


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


@compiled("b1(u1[::1], i8, i8, i8, i8[::1])")
def one_way(octets: Any, at: Any, stride: Any, count: Any, lengths: Any) -> Any:
    """Whether all the packets, ``stride`` apart from ``at`` on, have the same addresses."""
    lead = -1
    begin, width = 12, 8
    for index in range(count):
        place = at + index * stride
        if lengths[index] <= 0:
            continue
        if lead < 0:
            lead = place
            if octets[lead] >> 4 == 6:
                begin, width = 8, 32
        if lengths[index] < begin + width or octets[place] >> 4 != octets[lead] >> 4:
            return False
        if not same(octets, place + begin, lead + begin, width):
            return False
    return True


# Splitting (RFC 9293 §3.7, RFC 768).


@compiled("i8(u1[::1], i8, i8, i8, i8, i8, i8, i8, i8, i8, u1[::1], i8, i8)")
def split(
    source: Any,
    at: Any,
    length: Any,
    version: Any,
    protocol: Any,
    transport: Any,
    headers: Any,
    size: Any,
    first: Any,
    number: Any,
    octets: Any,
    place: Any,
    stride: Any,
) -> Any:
    """Segments ``first`` and on of a packet of ``length`` octets in ``source`` to ``octets``, ``stride`` apart.

    The octets of the last of them.
    """
    segments = (length - headers + size - 1) // size
    check = transport + (16 if protocol == TCP else 6)
    # The kernel has left the pseudo-header's sum, length included, in the checksum's place.
    pseudo = get16(source, at + check) - (length - transport) + 2 * MODULUS
    whole = 0
    for index in range(first, first + number):
        slot = place + (index - first) * stride
        begin = headers + index * size
        width = min(size, length - begin)
        whole = headers + width
        copy(octets, slot, source, at, headers)
        copy(octets, slot + headers, source, at + begin, width)
        inner = slot + transport
        if version == 4:
            # Identification counts up (RFC 6864 §4).
            put(octets, slot + 2, whole, 2)
            put(octets, slot + 4, (get16(source, at + 4) + index) & MODULUS, 2)
            put(octets, slot + 10, 0, 2)
            put(octets, slot + 10, MODULUS - fold(word_sum(octets, slot, transport)), 2)
        else:
            put(octets, slot + 4, whole - 40, 2)
        if protocol == TCP:
            put(octets, inner + 4, (get32(source, at + transport + 4) + index * size) & 0xFFFFFFFF, 4)
            if index != segments - 1:
                octets[inner + 13] &= 0xFF & ~(FIN | PSH)
            if index:
                octets[inner + 13] &= 0xFF & ~CWR
        else:
            put(octets, inner + 4, whole - transport, 2)
        put(octets, slot + check, 0, 2)
        value = MODULUS - fold(word_sum(octets, inner, whole - transport) + pseudo + whole - transport)
        put(octets, slot + check, MODULUS if not value and protocol != TCP else value, 2)
    return whole


# What was read from the tunnel device, an offload header (VIRTIO 1.2 §5.1.6) before each packet.


@compiled("i8(u1[::1], i8, i8, i8, i8, i8[:, ::1])")
def alike(octets: Any, at: Any, stride: Any, first: Any, count: Any, rows: Any) -> Any:
    """The end of the packets from ``first`` on, among ``count``, that share length, class, addresses and offload.

    They lie ``stride`` apart, the very first at ``at``; each row has a length and an offload's number.
    """
    lead, length = at + first * stride, rows[first, 0]
    begin, width = (12, 8) if octets[lead] >> 4 == 4 else (8, 32)
    if length < begin + width:
        return first + 1
    for index in range(first + 1, count):
        other = at + index * stride
        if rows[index, 0] != length or rows[index, 1] != rows[first, 1] or not same(octets, other, lead, 4):
            return index
        if not same(octets, other + begin, lead + begin, width):
            return index
    return count


@compiled("void(u1[::1], i8, i8, i8, i8, i8, i8)")
def finish(octets: Any, at: Any, stride: Any, count: Any, length: Any, start: Any, field: Any) -> None:
    """Put the checksums in that the kernel has left to the device, for packets of one length and offload."""
    for index in range(count):
        begin = at + index * stride + start
        value = MODULUS - fold(word_sum(octets, begin, length - start))
        # In a UDP header 0 stands for none (RFC 768).
        put(octets, begin + field, MODULUS if not value and field == 6 else value, 2)


# Joining: only what the kernel would split into the very same packets again.


@part
def header_holds(octets: Any, at: Any) -> Any:
    """Whether the checksum of an IPv4 header without options is the one that its sender would have put there."""
    told = get16(octets, at + 10)
    return told == MODULUS - fold(word_sum(octets, at, 10) + word_sum(octets, at + 12, 8))


@part
def shape_of(octets: Any, at: Any, length: Any, tcp: Any, udp: Any) -> Any:
    """IP version, protocol, and where a packet's transport header begins and all headers end; 0 for that if it cannot
    lead others."""
    version, protocol, transport = np.int64(0), np.int64(0), np.int64(0)
    nothing = version, protocol, transport, np.int64(0)
    if length < 28:
        return nothing
    if octets[at] == 0x45:
        version, protocol, transport = np.int64(4), np.int64(octets[at + 9]), np.int64(20)
        whole = get16(octets, at + 6) & 0x3FFF == 0 and header_holds(octets, at)
        if get16(octets, at + 2) != length or not whole:
            return nothing
    elif octets[at] >> 4 == 6 and length >= 48:
        version, protocol, transport = np.int64(6), np.int64(octets[at + 6]), np.int64(40)
        if get16(octets, at + 4) + 40 != length:
            return nothing
    else:
        return nothing
    if not (tcp if protocol == TCP else udp and protocol == 17):
        return nothing
    headers = transport + 8
    if protocol == TCP:
        inner = at + transport
        if length < transport + 20 or octets[inner + 13] & (0xFF & ~ECE) != ACK or get16(octets, inner + 18):
            return nothing
        headers = transport + np.int64(octets[inner + 12] >> 4) * 4
        if headers < transport + 20:
            return nothing
    if headers >= length:
        return nothing
    return version, protocol, transport, headers


@part
def pseudo_sum(octets: Any, at: Any, version: Any, protocol: Any) -> Any:
    """Of the pseudo-header, without the length."""
    return protocol + (word_sum(octets, at + 12, 8) if version == 4 else word_sum(octets, at + 8, 32))


@part
def datagram_holds(octets: Any, at: Any, length: Any, transport: Any, pseudo: Any) -> Any:
    """Whether a UDP datagram's length and checksum hold. One without a checksum does not (RFC 768, RFC 6935): the
    kernel would give it one."""
    inner, width = at + transport, length - transport
    if get16(octets, inner + 4) != width or not get16(octets, inner + 6):
        return False
    return fold(word_sum(octets, inner, width) + pseudo + width) == MODULUS


@part
def network_follows(octets: Any, lead: Any, at: Any, length: Any, version: Any, named: Any) -> Any:
    """Whether an IP header differs from the lead's only in what it must; ``named``: IPv4's identification."""
    if version == 6:
        return get16(octets, at + 4) + 40 == length and same(octets, at, lead, 4) and same(octets, at + 6, lead + 6, 34)
    if get16(octets, at + 2) != length or get16(octets, at + 4) != named or not header_holds(octets, at):
        return False
    return same(octets, at, lead, 2) and same(octets, at + 6, lead + 6, 4) and same(octets, at + 12, lead + 12, 8)


@part
def tcp_follows(octets: Any, lead: Any, at: Any, rest: Any, forward: Any) -> Any:
    """Whether a TCP header of ``rest`` octets goes on ``forward`` octets behind the lead's; PSH may end it."""
    if get32(octets, at + 4) != (get32(octets, lead + 4) + forward) & 0xFFFFFFFF:
        return NO
    # Acknowledgement and length; window; urgent pointer and options.
    if not (same(octets, at + 8, lead + 8, 5) and same(octets, at + 14, lead + 14, 2)):
        return NO
    if not same(octets, at + 18, lead + 18, rest - 18):
        return NO
    if octets[at + 13] == octets[lead + 13]:
        return FULL
    return LAST if octets[at + 13] | PSH == octets[lead + 13] | PSH else NO


@part
def follows(
    octets: Any,
    lead: Any,
    at: Any,
    length: Any,
    longest: Any,
    step: Any,
    version: Any,
    protocol: Any,
    transport: Any,
    headers: Any,
    pseudo: Any,
    counted: Any,
) -> Any:
    """Whether a packet goes on where others ended, ``step`` packets behind the one that leads them: ``NO``, ``FULL``,
    or as the ``LAST``, which may be shorter and may have PSH."""
    named = (get16(octets, lead + 4) + (step if counted else 0)) & MODULUS
    if length <= headers or not network_follows(octets, lead, at, length, version, named):
        return NO
    inner, other = at + transport, lead + transport
    if not same(octets, inner, other, 4):
        return NO
    kind = FULL
    if protocol == TCP:
        kind = tcp_follows(octets, other, inner, headers - transport, step * (longest - headers))
    elif not datagram_holds(octets, at, length, transport, pseudo):
        return NO
    return LAST if kind == FULL and length < longest else kind


@part
def make_lead(
    octets: Any,
    at: Any,
    final_at: Any,
    total: Any,
    payload: Any,
    version: Any,
    protocol: Any,
    transport: Any,
    headers: Any,
    pseudo: Any,
) -> None:
    """Make the first packet's headers those of the whole. ``payload``: the sum of a TCP packet's whole payload."""
    inner, width = at + transport, total - transport
    if protocol == TCP:
        octets[inner + 13] |= octets[final_at + transport + 13] & PSH
        put(octets, inner + 16, 0, 2)
        sums = payload + word_sum(octets, inner, headers - transport) + pseudo + width
        put(octets, inner + 16, MODULUS - fold(sums), 2)
    else:
        put(octets, inner + 4, width, 2)
        put(octets, inner + 6, fold(pseudo + width), 2)
    if version == 4:
        put(octets, at + 2, total, 2)
        put(octets, at + 10, 0, 2)
        put(octets, at + 10, MODULUS - fold(word_sum(octets, at, 20)), 2)
    else:
        put(octets, at + 4, total - 40, 2)


@part
def payload_sum(octets: Any, at: Any, length: Any, transport: Any, headers: Any, pseudo: Any) -> Any:
    """What a TCP segment's payload sums up to if its own checksum is right, below ``MODULUS``."""
    own = word_sum(octets, at + transport, headers - transport) + pseudo + length - transport
    return MODULUS - 1 - (own - 1) % MODULUS


@part
def piece_at(
    octets: Any,
    first: Any,
    offset: Any,
    number: Any,
    stride: Any,
    length: Any,
    last: Any,
    version: Any,
    protocol: Any,
    transport: Any,
    headers: Any,
) -> Any:
    """The end of the piece that packet ``first`` leads; it gets the headers of the whole."""
    lead = offset + first * stride
    pseudo = pseudo_sum(octets, lead, version, protocol)
    counted = version == 4 and get16(octets, lead + 4) != get16(octets, lead + stride + 4)
    # An identification that does not count up must not be needed (RFC 6864 §4.1).
    if version == 4 and not counted and get16(octets, lead + 6) & 0x4000 == 0:
        return first + 1
    if protocol != TCP and not datagram_holds(octets, lead, length, transport, pseudo):
        return first + 1
    size = length - headers
    most = min(number, first + max(1, (MOST - headers) // size))
    total, end, kind = length, first + 1, FULL
    # Every other payload begins at an odd octet of the whole, where their size is odd.
    even, odd = np.int64(0), np.int64(0)
    if protocol == TCP:
        even += payload_sum(octets, lead, length, transport, headers, pseudo)
    while kind == FULL and end < most:
        at, own, step = offset + end * stride, last if end == number - 1 else length, end - first
        kind = follows(octets, lead, at, own, length, step, version, protocol, transport, headers, pseudo, counted)
        if kind == NO:
            break
        if protocol == TCP and size & step & 1:
            odd += payload_sum(octets, at, own, transport, headers, pseudo)
        elif protocol == TCP:
            even += payload_sum(octets, at, own, transport, headers, pseudo)
        total += own - headers
        end += 1
    if end - first > 1:
        behind, payload = offset + (end - 1) * stride, even + 256 * odd
        make_lead(octets, lead, behind, total, payload, version, protocol, transport, headers, pseudo)
    return end


@part
def join_stretch(
    octets: Any,
    offset: Any,
    number: Any,
    stride: Any,
    length: Any,
    last: Any,
    tcp: Any,
    udp: Any,
    rows: Any,
    found: Any,
    base: Any,
) -> Any:
    """:func:`join` for packets of which ``base`` others and ``found`` rows have come before."""
    first = alone = 0
    while first + 1 < number:
        version, protocol, transport, headers = shape_of(octets, offset + first * stride, length, tcp, udp)
        end = first + 1
        if headers:
            run = offset, number, stride, length, last
            end = piece_at(octets, first, *run, version, protocol, transport, headers)
        if end - first > 1:
            if alone < first:
                rows[found, 0], rows[found, 1], rows[found, 3] = base + alone, base + first, 0
                found += 1
            rows[found, 0], rows[found, 1], rows[found, 2] = base + first, base + end, headers
            rows[found, 3], rows[found, 4] = version, protocol
            found += 1
            alone = end
        first = end
    if alone < number:
        rows[found, 0], rows[found, 1], rows[found, 3] = base + alone, base + number, 0
        found += 1
    return found


@compiled("i8(u1[::1], i8, i8, i8, i8, i8, b1, b1, i8[:,::1])")
def join(
    octets: Any,
    offset: Any,
    number: Any,
    stride: Any,
    length: Any,
    last: Any,
    tcp: Any,
    udp: Any,
    rows: Any,
) -> Any:
    """Which of ``number`` packets, ``stride`` apart from ``offset`` on, go together; how many ``rows`` say so.

    All have ``length`` octets but the last, which has ``last``. The headers of those that lead are rewritten. There
    must be as many rows as packets, and one more.
    """
    return join_stretch(octets, offset, number, stride, length, last, tcp, udp, rows, 0, 0)


@compiled("i8(u1[::1], i8, i8, i8, i8[::1], b1, b1, i8[:,::1])")
def join_all(octets: Any, at: Any, stride: Any, count: Any, lengths: Any, tcp: Any, udp: Any, rows: Any) -> Any:
    """:func:`join` for packets of many ``lengths``; those below 1 are left out."""
    begin = found = 0
    while begin < count:
        length, end = lengths[begin], begin + 1
        if length > 0:
            while end < count and lengths[end] == length:
                end += 1
            if end < count and 0 < lengths[end] < length:
                end += 1
            run = at + begin * stride, end - begin, stride, length, lengths[end - 1]
            found = join_stretch(octets, *run, tcp, udp, rows, found, begin)
        begin = end
    return found
