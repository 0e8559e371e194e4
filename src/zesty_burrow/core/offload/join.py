"""Joins packets that have come one after the other into one that the kernel takes in one piece.

Only what the kernel would split into the very same packets again: one flow, the same headers but for what counts up,
full segments but the last (compare RFC 9293 §3.7.1). A TCP packet's checksum follows from its segments' own, so the
kernel still verifies what the sender has summed. UDP checksums are verified here, as there the kernel sums anew.
"""

from __future__ import annotations

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
"""Packets whose headers are compared at a time: a piece seldom has more."""
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
    """Packets ``first`` to before ``end`` go in one piece, if there is more than one, under ``offload``.

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


class Joiner:
    """Joins packets that lie in one buffer; ``protocols``: those of which the kernel takes many in one piece."""

    def __init__(self, octets: Octets, protocols: frozenset[int]) -> None:
        self._octets, self._view = octets, octets.data
        self._protocols = protocols
        self._payloads: OrderedDict[tuple[int, int, int, int], list[memoryview]] = OrderedDict()

    def join(self, packets: Packets) -> Iterator[Joined]:
        """Which packets go together. The headers of those that lead are rewritten in place."""
        first, count = 0, packets.number
        read: dict[int, npt.NDArray[np.uint32]] = {}
        while first < count:
            shape = self._shape(packets, first) if first + 1 < count else None
            if shape is None:
                yield Joined(first, first + 1)
                first += 1
                continue
            words = read.get(shape.headers)
            if words is None:
                words = read[shape.headers] = self._words(packets, shape)
            end, most = first, max(1, (MOST - shape.headers) // (packets.length - shape.headers))
            end += self._follow(packets, shape, first, words[first : first + LOOKED_AT])
            # What is alike but too much for one piece goes in several, each with its own lead.
            while first < end:
                upto = min(end, first + most)
                if upto - first == 1:
                    yield Joined(first, upto)
                else:
                    yield Joined(first, upto, shape.headers, self._lead(packets, shape, first, upto, words[first:upto]))
                first = upto

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

    def _words(self, packets: Packets, shape: _Shape) -> npt.NDArray[np.uint32]:
        """The headers of all packets as 32-bit words."""
        form, data = (packets.number, shape.headers // 4), self._octets.data
        return np.ndarray(form, ">u4", data, packets.offset, (packets.stride, 4)).astype(np.uint32)

    def _follow(self, packets: Packets, shape: _Shape, first: int, words: npt.NDArray[np.uint32]) -> int:
        """How many packets from ``first`` on go in one piece.

        Nothing in their headers may differ but what counts up. The last one may be shorter, and may have PSH.
        """
        count, is_tcp = len(words), shape.protocol == TCP
        counted = shape.version == 4 and bool(words[1, 1] != words[0, 1])
        if shape.version == 4 and not counted and not words[0, 1] & _DONT_FRAGMENT:
            # Where it does not count up it must not be needed (RFC 6864 §4.1).
            return 1
        size = packets.length - shape.headers
        steps = rising(MOST_PACKETS, shape.headers, shape.transport, size, counted=counted, tcp=is_tcp)
        delta = words - steps[:count]
        delta[:, shape.transport // 4 + (4 if is_tcp else 1)] &= 0xFFFF if is_tcp else 0
        if is_tcp and delta.tobytes() == delta[0].tobytes() * count:
            return count
        differs: list[bool] = np.bitwise_or.reduce(delta != delta[0], axis=1).tolist()
        sound: list[bool] = []
        if not is_tcp:
            sound = self._sound(packets, shape, first, words)
            differs = [one or not held for one, held in zip(differs, sound, strict=True)]
            if differs[0]:
                return 1
        try:
            alike = differs.index(True)
        except ValueError:
            return count
        row = first + alike
        ends = alike and self._may_end(packets, shape, row, words[alike - 1], words[alike], counted=counted)
        return alike + 1 if ends and (is_tcp or sound[alike]) else alike

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

    def _lead(self, packets: Packets, shape: _Shape, first: int, end: int, words: npt.NDArray[np.uint32]) -> Offload:
        """Make the first packet's headers those of the whole."""
        view, count = self._view, end - first
        begin, final = packets.begin(first), packets.begin(end - 1)
        shorter = packets.length - packets.size(end - 1)
        size, at = packets.length - shape.headers, begin + shape.transport
        total = packets.length + (count - 1) * size - shorter
        inner = total - shape.transport
        if shape.protocol == TCP:
            payload = _payload_sum(words, shape, packets.length, shorter)
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


def _payload_sum(words: npt.NDArray[np.uint32], shape: _Shape, length: int, shorter: int) -> int:
    """What the payloads sum up to if every segment's own checksum is right: the rest of it, turned round."""
    own = shape.pseudo + length - shape.transport
    if not (length - shape.headers) & 1:
        sums = np.add.reduce(words, axis=0, dtype=np.uint64).tolist()
        return int(-(sum(sums[shape.transport // 4 :]) + own * len(words) - shorter) % MODULUS)
    heads = words[:, shape.transport // 4 :]
    each = np.add.reduce(heads, axis=1, dtype=np.uint64) + own
    each[-1] -= shorter
    # Every other payload begins at an odd octet of the whole.
    return -(int(each[::2].sum()) + 256 * int(each[1::2].sum())) % MODULUS
