"""Loops that join packets: only what the kernel would split into the very same packets again.

Nothing here raises: what a stranger has sent is only read within the packets that the caller has measured.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.octets import MODULUS, TCP, fold, get16, get32, part, put, same, word_sum

PSH, ACK, ECE = 0x08, 0x10, 0x40
MAX_PIECE = 64000
"""Octets of a joined packet: below what an IP packet's length can say."""
NO, FULL, LAST = 0, 1, 2
ROW = 5
"""Numbers for each stretch of packets: first, end, octets of headers, IP version and protocol; 0 if each is alone."""


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
    most = min(number, first + max(1, (MAX_PIECE - headers) // size))
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
    """Which of ``number`` packets, ``stride`` apart from ``offset`` on, go together; how many ``rows`` say so.

    All have ``length`` octets but the last, which has ``last``. ``base`` packets and ``found`` rows have come before.
    The headers of those that lead are rewritten. There must be as many rows as packets, and one more.
    """
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


@part
def join_all(octets: Any, at: Any, stride: Any, count: Any, lengths: Any, tcp: Any, udp: Any, rows: Any) -> Any:
    """:func:`join_stretch` for packets of many ``lengths``; those below 1 are left out."""
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
