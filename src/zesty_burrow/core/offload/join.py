"""Joins packets that have come one after the other into one that the kernel takes in one piece.

Only what the kernel would split into the very same packets again: one flow, the same headers but for what counts up,
full segments but the last (compare RFC 9293 §3.7.1). A TCP packet's checksum follows from its segments' own, so the
kernel still verifies what the sender has summed. UDP checksums are verified here, as there the kernel sums anew.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_burrow.core.checksum import checksum, word_sum
from zesty_burrow.core.ip import TCP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import MODULUS, Octets, rising, sums_of
from zesty_burrow.core.offload.split import PSH, TCP_HEADER, UDP_HEADER
from zesty_burrow.core.offload.vnet import Offload

ACK, ECE = 0x10, 0x40
MOST = 64000
"""Octets of a joined packet: below what an IP packet's length can say."""
MOST_PACKETS = 512
LOOKED_AT = 64
"""UDP datagrams that are summed at a time: a piece seldom has more."""
KEPT = 16
_DONT_FRAGMENT = 0x4000


class Packets(NamedTuple):
    """``number`` inner packets, ``stride`` apart from ``offset`` on; all of ``length`` octets but the last."""

    offset: int
    number: int
    stride: int
    length: int
    last: int

    def begin(self, index: int) -> int:
        """Where a packet begins."""
        return self.offset + index * self.stride

    def size(self, index: int) -> int:
        """A packet's octets."""
        return self.last if index == self.number - 1 else self.length


class Joined(NamedTuple):
    """Packets ``first`` to before ``end`` go in one piece under ``offload``; each by itself where that is None.

    ``headers``: octets of the headers, which only the first of the packets keeps.
    """

    first: int
    end: int
    headers: int = 0
    offload: Offload | None = None


class _Shape(NamedTuple):
    """A packet that may lead others: where its transport header begins and all its headers end, and the sum of the
    addresses and the protocol of its pseudo-header."""

    version: int
    protocol: int
    transport: int
    headers: int
    pseudo: int


class _Rows:
    """The headers of all packets of a run as 32-bit words, a row for each, and what follows from them together."""

    def __init__(self, octets: Octets, packets: Packets, shape: _Shape) -> None:
        form = packets.number, shape.headers // 4
        raw: npt.NDArray[np.uint32] = np.ndarray(form, ">u4", octets.data, packets.offset, (packets.stride, 4))
        self.words = raw.astype(np.uint32)
        self._size = packets.length - shape.headers
        self._breaks: dict[bool, list[int]] = {}
        self._sums: npt.NDArray[np.uint64] | None = None

    def alike(self, shape: _Shape, first: int, *, counted: bool) -> int:
        """How many from ``first`` on differ in nothing but what counts up, and in what the payload's sum is in."""
        breaks = self._breaks.get(counted)
        if breaks is None:
            breaks = self._breaks[counted] = self._find_breaks(shape, counted=counted)
        return breaks[bisect_right(breaks, first)] - first

    def _find_breaks(self, shape: _Shape, *, counted: bool) -> list[int]:
        """The rows that are not like the one before them, and the number of rows."""
        words, is_tcp = self.words, shape.protocol == TCP
        count = len(words)
        most = max(MOST_PACKETS, 1 << (count - 1).bit_length())
        steps = rising(most, shape.headers, shape.transport, self._size, counted=counted, tcp=is_tcp)
        delta = words - steps[:count]
        delta[:, shape.transport // 4 + (4 if is_tcp else 1)] &= MODULUS if is_tcp else 0
        differing = np.flatnonzero(delta[1:] != delta[:-1]) // (shape.headers // 4)
        return [*sorted({row + 1 for row in differing.tolist()}), count]

    def payload_sum(self, shape: _Shape, first: int, end: int, length: int, shorter: int) -> int:
        """What the payloads of TCP segments sum up to if every segment's own checksum is right: the rest of it, turned
        round. All are ``length`` octets but the last, which is so much ``shorter``."""
        own = shape.pseudo + length - shape.transport
        if self._sums is None:
            each = np.add.reduce(self.words[:, shape.transport // 4 :], axis=1, dtype=np.uint64)
            # Every other payload begins at an odd octet of the whole, where their size is odd.
            self._sums = each if self._size & 1 else np.cumsum(each)
        sums = self._sums
        if not self._size & 1:
            total = int(sums[end - 1]) - (int(sums[first - 1]) if first else 0)
            return -(total + own * (end - first) - shorter) % MODULUS
        even, odd = (end - first + 1) // 2, (end - first) // 2
        last = shorter * (256 if even == odd else 1)
        return (
            -(
                int(sums[first:end:2].sum())
                + own * even
                + 256 * (int(sums[first + 1 : end : 2].sum()) + own * odd)
                - last
            )
            % MODULUS
        )


class Joiner:
    """Joins packets that lie in one buffer; ``protocols``: those of which the kernel takes many in one piece."""

    def __init__(self, octets: Octets, protocols: frozenset[int]) -> None:
        self._octets, self._view = octets, octets.data
        self._protocols = protocols
        self._payloads: OrderedDict[tuple[int, int, int, int], list[memoryview]] = OrderedDict()

    def join(self, packets: Packets) -> Iterator[Joined]:
        """Which packets go together. The headers of those that lead are rewritten in place."""
        first = alone = 0
        count = packets.number
        read: dict[tuple[int, int, int], _Rows] = {}
        while first < count:
            shape = self._shape(packets, first) if first + 1 < count else None
            if shape is None:
                first += 1
                continue
            kind = shape[1:4]
            rows = read.get(kind)
            if rows is None:
                rows = read[kind] = _Rows(self._octets, packets, shape)
            most = max(1, (MOST - shape.headers) // (packets.length - shape.headers))
            end = first + self._follow(packets, shape, first, rows)
            # What is alike but too much for one piece goes in several, each with its own lead.
            while end - first > 1:
                upto = min(end, first + most)
                if upto - first == 1:
                    break
                if alone < first:
                    yield Joined(alone, first)
                yield Joined(first, upto, shape.headers, self._lead(packets, shape, first, upto, rows))
                first = alone = upto
            first = max(first, end)
        if alone < count:
            yield Joined(alone, count)

    def pieces(self, packets: Packets, joined: Joined) -> list[memoryview]:
        """The payloads behind a joined packet's first one."""
        key = packets.offset, packets.stride, joined.headers, packets.length
        known = self._payloads.get(key)
        if known is None:
            known = self._payloads[key] = [
                self._view[at + joined.headers : at + packets.length]
                for at in range(packets.offset, len(self._view) - packets.length + 1, packets.stride)
            ]
            if len(self._payloads) > KEPT:
                self._payloads.popitem(last=False)
        found = known[joined.first + 1 : joined.end]
        if joined.end == packets.number and packets.last < packets.length:
            at = packets.begin(packets.number - 1)
            found[-1] = self._view[at + joined.headers : at + packets.last]
        return found

    def _shape(self, packets: Packets, index: int) -> _Shape | None:
        """The shape of a packet; None where it is not TCP or UDP right behind a plain IP header, or cannot lead."""
        at, length = packets.begin(index), packets.length
        head = bytes(self._view[at : at + min(length, 60)])
        if len(head) < 28:
            return None
        if 40 <= length <= 60 and head[0] == 0x45 and head[9] == TCP and 20 + (head[32] >> 4) * 4 >= length:
            # Nothing but an acknowledgement: by far the most frequent of those that cannot lead.
            return None
        if head[0] == 0x45:
            transport, protocol, addresses = 20, head[9], head[12:20]
            plain = int.from_bytes(head[2:4]) == length and not (head[6] & 0x3F or head[7])
            plain = plain and word_sum(head[:20]) == MODULUS
        elif head[0] >> 4 == 6 and len(head) >= 48:
            transport, protocol, addresses = 40, head[6], head[8:40]
            plain = int.from_bytes(head[4:6]) + 40 == length
        else:
            return None
        if not plain or protocol not in self._protocols:
            return None
        headers = transport + UDP_HEADER
        if protocol == TCP:
            if len(head) < transport + TCP_HEADER or head[transport + 13] & ~ECE != ACK:
                return None
            if head[transport + 18 : transport + 20] != b"\0\0":
                return None
            headers = transport + (head[transport + 12] >> 4) * 4
            if headers < transport + TCP_HEADER:
                return None
        if headers >= length:
            return None
        return _Shape(head[0] >> 4, protocol, transport, headers, word_sum(addresses) + protocol)

    def _follow(self, packets: Packets, shape: _Shape, first: int, rows: _Rows) -> int:
        """How many packets from ``first`` on go in one piece.

        Nothing in their headers may differ but what counts up. The last one may be shorter, and may have PSH.
        """
        words, is_tcp = rows.words, shape.protocol == TCP
        one, other = words[first : first + 2, 1].tolist()
        counted = shape.version == 4 and one != other
        if shape.version == 4 and not counted and not one & _DONT_FRAGMENT:
            # Where it does not count up it must not be needed (RFC 6864 §4.1).
            return 1
        alike, behind = rows.alike(shape, first, counted=counted), packets.number - first
        sound = [True] * 2
        if not is_tcp:
            behind = min(behind, alike + 1, LOOKED_AT)
            sound = self._sound(packets, shape, first, words[first : first + behind])
            alike = min(alike, behind, (*sound, False).index(False))
            if not alike:
                return 1
        if alike == behind or not (is_tcp or sound[alike]):
            return alike
        row = first + alike
        ends = self._may_end(packets, shape, row, words[row - 1], words[row], counted=counted)
        return alike + 1 if ends else alike

    def _may_end(
        self,
        packets: Packets,
        shape: _Shape,
        row: int,
        before: npt.NDArray[np.uint32],
        words: npt.NDArray[np.uint32],
        *,
        counted: bool,
    ) -> bool:
        """Whether a packet that is not like those before it may yet be the last of a piece."""
        length, place = packets.size(row), shape.transport // 4
        if length <= shape.headers:
            return False
        one, other = before.tolist(), words.tolist()
        if shape.version == 4:
            sound = word_sum(self._view[packets.begin(row) : packets.begin(row) + 20]) == MODULUS
            if not sound or other[2] >> 16 != one[2] >> 16:
                return False
            one[1] = (one[1] + 0x10000 * counted) & 0xFFFFFFFF
            one[0] -= packets.length - length
            one[2] = other[2]
        else:
            one[1] -= packets.length - length << 16
        if shape.protocol == TCP:
            one[place + 1] = (one[place + 1] + packets.length - shape.headers) & 0xFFFFFFFF
            one[place + 3] |= PSH << 16
            other[place + 3] |= PSH << 16
            one[place + 4] = other[place + 4] & ~0xFFFF
        else:
            one[place + 1] = other[place + 1]
        return bool(one == other)

    def _sound(self, packets: Packets, shape: _Shape, first: int, words: npt.NDArray[np.uint32]) -> list[bool]:
        """For each UDP datagram whether its length and its checksum hold.

        One without a checksum does not (RFC 768, RFC 6935): the kernel would give it one.
        """
        count, width = len(words), packets.length - shape.transport
        start = packets.begin(first) + shape.transport
        whole = count if packets.last == packets.length or first + count < packets.number else count - 1
        sums = np.zeros(count, np.uint64)
        lengths = np.full(count, width, np.uint64)
        sums[:whole] = sums_of(self._octets, start, whole, packets.stride, width)
        if whole < count:
            begin = start + whole * packets.stride
            short = max(packets.last - shape.transport, 0)
            lengths[whole], sums[whole] = short, word_sum(self._view[begin : begin + short])
        told = words[:, shape.transport // 4 + 1]
        sound = (sums + lengths + shape.pseudo) % MODULUS == 0
        sound &= (told >> 16 == lengths) & (told & MODULUS != 0)
        return list(sound.tolist())

    def _lead(self, packets: Packets, shape: _Shape, first: int, end: int, rows: _Rows) -> Offload:
        """Make the first packet's headers those of the whole."""
        view, count = self._view, end - first
        begin, final = packets.begin(first), packets.begin(end - 1)
        shorter = packets.length - packets.size(end - 1)
        size, at = packets.length - shape.headers, begin + shape.transport
        total = packets.length + (count - 1) * size - shorter
        inner = total - shape.transport
        if shape.protocol == TCP:
            payload = rows.payload_sum(shape, first, end, packets.length, shorter)
            view[at + 13] |= view[final + shape.transport + 13] & PSH
            view[at + 16 : at + 18] = b"\0\0"
            sums = payload + word_sum(view[at : begin + shape.headers]) + shape.pseudo + inner
            view[at + 16 : at + 18] = (MODULUS - 1 - (sums - 1) % MODULUS).to_bytes(2)
            offload = Offload(0, vnet.TCP4 if shape.version == 4 else vnet.TCP6, shape.headers, size, 0, 0)
        else:
            view[at + 4 : at + 6] = inner.to_bytes(2)
            view[at + 6 : at + 8] = ((shape.pseudo + inner - 1) % MODULUS + 1).to_bytes(2)
            offload = Offload(vnet.NEEDS_CHECKSUM, vnet.UDP, shape.headers, size, shape.transport, 6)
        if shape.version == 4:
            view[begin + 2 : begin + 4] = total.to_bytes(2)
            view[begin + 10 : begin + 12] = b"\0\0"
            view[begin + 10 : begin + 12] = checksum(view[begin : begin + 20]).to_bytes(2)
        else:
            view[begin + 4 : begin + 6] = (total - 40).to_bytes(2)
        return offload
