"""Splits what the kernel hands over in one piece: TCP and UDP of both families, a segment to a slot.

Each segment is the packet that the sender's own stack would have sent (RFC 9293 §3.7, RFC 768): its own lengths,
sequence number, flags and checksums; PSH and FIN on the last alone, CWR on the first alone (RFC 3168 §6.1.2).
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from zesty_burrow.core.checksum import checksum, word_sum
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import MODULUS, Octets, columns, complements, rising, sums_of
from zesty_burrow.core.offload.vnet import Offload
from zesty_burrow.errors import Malformed

TCP_HEADER, UDP_HEADER = 20, 8
FIN, PSH, CWR = 0x01, 0x08, 0x80
_LAST_ONLY, _FIRST_ONLY = FIN | PSH, CWR
KEPT = 16


@dataclass(frozen=True, slots=True)
class Super:
    """A packet of many segments, ``length`` octets from ``at`` on: ``headers`` of them, then segments of ``size``."""

    at: int
    length: int
    version: int
    protocol: int
    transport: int
    headers: int
    size: int

    @property
    def segments(self) -> int:
        """How many there are."""
        return -(-(self.length - self.headers) // self.size)


@dataclass(frozen=True, slots=True)
class _Place:
    """Views of the slots for segments of one shape: headers as 32-bit words, payloads, payloads with their end."""

    words: npt.NDArray[np.uint32]
    payload: Octets
    behind: Octets


class Splitter:
    """Puts segments into ``count`` slots of a buffer, ``offset`` and ``stride`` say where."""

    def __init__(self, octets: Octets, offset: int, count: int, stride: int) -> None:
        self._octets, self._view = octets, octets.data
        self._offset, self._count, self._stride = offset, count, stride
        self._places: OrderedDict[tuple[int, int], _Place] = OrderedDict()

    def place(self, source: Octets, whole: Super, first: int, count: int) -> int:
        """Segments ``first`` to ``first + count`` into the slots, from the first on; the length of the last.

        Up to three octets behind each are overwritten.
        """
        head, size = whole.headers, whole.size
        begin = whole.at + head + first * size
        last = min(size, whole.length - head - (first + count - 1) * size)
        views = self._views(head, size)
        full = count if last == size else count - 1
        views.payload[:full] = source[begin : begin + full * size].reshape(full, size)
        # Zeros behind a segment do not change its checksum, so that one width serves all.
        if size & 3:
            views.behind[:full, size:] = 0
        if full < count:
            views.behind[full, :last] = source[begin + full * size : begin + full * size + last]
            views.behind[full, last:] = 0
        payload = sums_of(self._octets, self._offset + head, count, self._stride, views.behind.shape[1])
        base = bytearray(source[whole.at : whole.at + head].tobytes())
        self._write_heads(base, whole, first, count, last, payload, views)
        return head + last

    def _views(self, head: int, size: int) -> _Place:
        found = self._places.get((head, size))
        if found is None:
            at, count, stride = self._offset, self._count, self._stride
            words = np.ndarray((count, head // 4), ">u4", self._octets.data, at, (stride, 4))
            behind = columns(self._octets, at + head, count, stride, (size + 3) & ~3)
            found = self._places[head, size] = _Place(words, behind[:, :size], behind)
            if len(self._places) > KEPT:
                self._places.popitem(last=False)
        return found

    def _write_heads(
        self,
        base: bytearray,
        whole: Super,
        first: int,
        count: int,
        last: int,
        payload: npt.NDArray[np.uint64],
        views: _Place,
    ) -> None:
        size, at = whole.size, whole.transport
        _network(base, whole, first)
        flags = 0
        if whole.protocol == TCP:
            known, flags = int.from_bytes(base[at + 4 : at + 8]) + first * size, base[at + 13]
            base[at + 4 : at + 8] = (known & 0xFFFFFFFF).to_bytes(4)
            base[at + 13], base[at + 16 : at + 18] = flags & ~(_LAST_ONLY | _FIRST_ONLY), bytes(2)
        else:
            base[at + 4 : at + 6], base[at + 6 : at + 8] = (UDP_HEADER + size).to_bytes(2), bytes(2)
        inner = whole.headers + size - at
        places = slice(12, 20) if whole.version == 4 else slice(8, 40)
        fixed = word_sum(base[at:]) + word_sum(base[places]) + whole.protocol + inner
        counted = whole.version == 4
        steps = rising(self._count, whole.headers, at, size, counted=counted, tcp=whole.protocol == TCP)[:count]
        words = steps + np.frombuffer(base, ">u4").astype(np.uint32)
        sums = payload + fixed
        if whole.protocol == TCP:
            # The base has the first one's sequence number in its sum.
            sums += steps[:, at // 4 + 1]
            sums[-1] += size * 0xFFFF + last - size
        else:
            sums[-1] += 2 * (size * 0xFFFF + last - size)
        ends = first + count == whole.segments
        sums[-1] += flags & _LAST_ONLY if ends else 0
        sums[0] += 0 if first else flags & _FIRST_ONLY
        values = complements(sums)
        if whole.protocol == TCP:
            words[:, at // 4 + 4] += values << np.uint64(16)
        else:
            values[values == 0] = MODULUS
            words[:, at // 4 + 1] += values
        views.words[:count] = words
        self._correct(whole, count, last, flags if ends else 0, flags if not first else 0)
        wraps = (int(words[0, 1]) >> 16) + count > MODULUS + 1 or int(words[0, 2]) & MODULUS < count
        if whole.version == 4 and wraps:
            self._sum_each(count, at)

    def _correct(self, whole: Super, count: int, last: int, last_flags: int, first_flags: int) -> None:
        """What the first and the last have of their own."""
        view, at = self._view, whole.transport
        final = self._offset + (count - 1) * self._stride
        if whole.protocol == TCP:
            view[final + at + 13] |= last_flags & _LAST_ONLY
            view[self._offset + at + 13] |= first_flags & _FIRST_ONLY
        if last == whole.size:
            return
        if whole.version == 4:
            view[final + 2 : final + 4] = (whole.headers + last).to_bytes(2)
            self._sum_header(final, at)
        else:
            view[final + 4 : final + 6] = (whole.headers + last - 40).to_bytes(2)
        if whole.protocol == UDP:
            view[final + at + 4 : final + at + 6] = (UDP_HEADER + last).to_bytes(2)

    def _sum_each(self, count: int, size: int) -> None:
        """Where identification or checksum wraps on the way, they do not count together."""
        for index in range(count):
            self._sum_header(self._offset + index * self._stride, size)

    def _sum_header(self, at: int, size: int) -> None:
        self._view[at + 10 : at + 12] = b"\0\0"
        self._view[at + 10 : at + 12] = checksum(self._view[at : at + size]).to_bytes(2)


def _network(base: bytearray, whole: Super, first: int) -> None:
    """The IP header of segment ``first``: IPv4's identification counts up (RFC 6864 §4)."""
    length = whole.headers + whole.size
    if whole.version == 6:
        base[4:6] = (length - 40).to_bytes(2)
        return
    base[2:4] = length.to_bytes(2)
    base[4:6] = ((int.from_bytes(base[4:6]) + first) & MODULUS).to_bytes(2)
    base[10:12] = bytes(2)
    base[10:12] = checksum(base[: whole.transport]).to_bytes(2)


def read_super(octets: Octets, at: int, length: int, offload: Offload) -> Super:
    """A packet that is to be split. Raises :class:`Malformed` where the kernel's word and the packet disagree."""
    head = octets[at : at + min(length, 120)].tobytes()
    version = head[0] >> 4 if head else 0
    protocol = UDP if offload.kind == vnet.UDP else TCP
    right = {vnet.TCP4: 4, vnet.TCP6: 6, vnet.UDP: version}.get(offload.kind & ~vnet.ECN)
    transport, least = offload.start, offload.start + (TCP_HEADER if protocol == TCP else UDP_HEADER)
    if right != version or version not in (4, 6) or not offload.size:
        raise Malformed("a packet cannot be split", why=f"its kind is {offload.kind}, its IP version {version}")
    if transport < (20 if version == 4 else 40) or transport & 3 or least > len(head) or length > MODULUS + 40:
        raise Malformed("a packet cannot be split", why=f"{length} octets with a transport header at {transport}")
    headers = least
    if protocol == TCP:
        headers = transport + (head[transport + 12] >> 4) * 4
    if not least <= headers < length:
        raise Malformed("a packet cannot be split", why=f"its headers end at {headers} of {length}")
    return Super(at, length, version, protocol, transport, headers, offload.size)


def finish_checksum(view: memoryview, at: int, length: int, offload: Offload) -> None:
    """Put the checksum in that the kernel has left to the device: its field holds the pseudo-header's sum."""
    start, field = at + offload.start, at + offload.start + offload.place
    if field + 2 > at + length:
        raise Malformed("a packet's checksum cannot be finished", why="its place is behind the packet's end")
    value = checksum(view[start : at + length])
    if value == 0 and offload.place == 6:
        value = MODULUS
    view[field : field + 2] = value.to_bytes(2)
