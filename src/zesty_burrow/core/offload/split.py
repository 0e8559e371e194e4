"""Splits what the kernel hands over in one piece: TCP and UDP of both families, a segment to a slot.

Each segment is the packet that the sender's own stack would have sent (RFC 9293 §3.7, RFC 768): its own lengths,
sequence number, flags and checksums; PSH and FIN on the last alone, CWR on the first alone (RFC 3168 §6.1.2).
"""

from __future__ import annotations

import struct
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_burrow.core.checksum import checksum
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import MODULUS, Octets, columns, numbers, rising, sums_of
from zesty_burrow.core.offload.vnet import Offload
from zesty_burrow.errors import Malformed

TCP_HEADER, UDP_HEADER = 20, 8
FIN, PSH, CWR = 0x01, 0x08, 0x80
_LAST_ONLY, _FIRST_ONLY = FIN | PSH, CWR
KEPT = 16
UDP_PLACE = 6
"""Of the checksum in a UDP header, where 0 stands for none (RFC 768)."""


class Super(NamedTuple):
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


class Portion(NamedTuple):
    """Segments ``first`` to ``first + number`` of a packet that lies in ``octets``."""

    octets: Octets
    whole: Super
    first: int
    number: int

    @property
    def last(self) -> int:
        """Octets of payload in the last of them."""
        whole = self.whole
        return min(whole.size, whole.length - whole.headers - (self.first + self.number - 1) * whole.size)


@dataclass(frozen=True, slots=True)
class _Place:
    """For segments of one shape, views of the slots: headers as 32-bit words, payloads, payloads with their end and
    that as 32-bit words; what headers and TCP's sequence numbers rise by; and room for headers and sums."""

    words: npt.NDArray[np.uint32]
    payload: Octets
    behind: Octets
    quads: npt.NDArray[np.uint32]
    steps: npt.NDArray[np.uint32]
    rise: npt.NDArray[np.uint64]
    heads: npt.NDArray[np.uint32]
    sums: npt.NDArray[np.uint64]
    form: struct.Struct


class Splitter:
    """Puts segments into ``count`` slots of a buffer, ``offset`` and ``stride`` say where."""

    def __init__(self, octets: Octets, offset: int, count: int, stride: int) -> None:
        self._octets, self._view = octets, octets.data
        self._offset, self._count, self._stride = offset, count, stride
        self._places: OrderedDict[tuple[int, ...], _Place] = OrderedDict()

    def place(self, portions: Sequence[Portion]) -> int:
        """Segments of packets of one shape into the slots, from the first on; the length of the last.

        Only the very last may be shorter than the others. Up to three octets behind each are overwritten.
        """
        views, begin = self._views(portions[0].whole), 0
        for portion in portions:
            end = begin + portion.number
            self._copy(portion, views, begin, end)
            self._prepare(portion, views, begin, end)
            begin = end
        whole, place = portions[0].whole, portions[0].whole.transport // 4
        payload = np.add.reduce(views.quads[:begin], axis=1, dtype=np.uint64)
        # As the machine reads them; in network order the sums are 256 times that.
        sums = payload * 256 + views.sums[:begin]
        heads = views.heads[:begin]
        if whole.protocol == TCP:
            heads[:, place + 4] += (MODULUS - 1 - (sums - 1) % MODULUS) << 16
        else:
            heads[:, place + 1] += MODULUS - sums % MODULUS
        views.words[:begin] = heads
        begin = 0
        for portion in portions:
            self._correct(portion, heads, begin)
            begin += portion.number
        return whole.headers + portions[-1].last

    @staticmethod
    def _copy(portion: Portion, views: _Place, begin: int, end: int) -> None:
        octets, whole, first, number = portion
        size, last = whole.size, portion.last
        at = whole.at + whole.headers + first * size
        full = number if last == size else number - 1
        views.payload[begin : begin + full] = octets[at : at + full * size].reshape(full, size)
        # Zeros behind a segment do not change its checksum, so that one width serves all.
        if size & 3:
            views.behind[begin : begin + full, size:] = 0
        if full < number:
            views.behind[end - 1, :last] = octets[at + full * size : at + full * size + last]
            views.behind[end - 1, last:] = 0

    @staticmethod
    def _prepare(portion: Portion, views: _Place, begin: int, end: int) -> None:
        """The headers, without the transport's checksums; and what those are to cover besides the payload."""
        octets, whole, first, number = portion
        size, place, is_tcp = whole.size, whole.transport // 4, whole.protocol == TCP
        inner = whole.headers + size - whole.transport
        base = list(views.form.unpack_from(octets.data, whole.at))
        _network(base, whole, first)
        check = place + (4 if is_tcp else 1)
        # The kernel has left the pseudo-header's sum, length included, in the checksum's place.
        left = base[check] >> 16 if is_tcp else base[check] & MODULUS
        pseudo = left - (whole.length - whole.transport) + inner
        flags = 0
        if is_tcp:
            base[place + 1] = (base[place + 1] + first * size) & 0xFFFFFFFF
            flags = base[place + 3] >> 16 & 0xFF
            base[place + 3] &= ~((_LAST_ONLY | _FIRST_ONLY) << 16)
            base[check] &= MODULUS
        else:
            base[check] = inner << 16
        np.add(views.steps[:number], np.array(base, np.uint32), out=views.heads[begin:end])
        # The base has the first one's sequence number in its sum; those behind it rise from there.
        sums = views.sums[begin:end]
        np.add(views.rise[:number], (pseudo + sum(base[place:])) % MODULUS + MODULUS, out=sums)
        if is_tcp and base[place + 1] + size * number > 1 << 32:
            # Beyond 2^32, which leaves a remainder of one, they begin anew.
            sums[-(((1 << 32) - base[place + 1]) // -size) :] += np.uint64(MODULUS - 1)
        change = (portion.last - size) * (1 if is_tcp else 2)
        if first + number == whole.segments:
            change += flags & _LAST_ONLY
        if change:
            sums[-1] += change % MODULUS
        if not first and flags & _FIRST_ONLY:
            sums[0] += flags & _FIRST_ONLY

    def _views(self, whole: Super) -> _Place:
        head, size, key = whole.headers, whole.size, whole[2:]
        found = self._places.get(key)
        if found is None:
            at, count, stride = self._offset, self._count, self._stride
            behind = columns(self._octets, at + head, count, stride, (size + 3) & ~3)
            counted, tcp = whole.version == 4, whole.protocol == TCP
            found = self._places[key] = _Place(
                words=np.ndarray((count, head // 4), ">u4", self._octets.data, at, (stride, 4)),
                payload=behind[:, :size],
                behind=behind,
                quads=np.ndarray((count, (size + 3) // 4), "<u4", self._octets.data, at + head, (stride, 4)),
                steps=rising(count, head, whole.transport, size, counted=counted, tcp=tcp),
                rise=np.arange(count, dtype=np.uint64) * (size * tcp),
                heads=np.zeros((count, head // 4), np.uint32),
                sums=np.zeros(count, np.uint64),
                form=struct.Struct(f">{head // 4}I"),
            )
            if len(self._places) > KEPT:
                self._places.popitem(last=False)
        return found

    def _correct(self, portion: Portion, heads: npt.NDArray[np.uint32], begin: int) -> None:
        """What the first and the last of a portion have of their own, and IPv4 sums that wrap on the way."""
        view, whole, number, last = self._view, portion.whole, portion.number, portion.last
        at, start = whole.transport, self._offset + begin * self._stride
        final = start + (number - 1) * self._stride
        if whole.protocol == TCP:
            flags = int(portion.octets[whole.at + at + 13])
            if flags & _LAST_ONLY and portion.first + number == whole.segments:
                view[final + at + 13] |= flags & _LAST_ONLY
            if flags & _FIRST_ONLY and not portion.first:
                view[start + at + 13] |= flags & _FIRST_ONLY
        if last < whole.size and whole.protocol == UDP:
            view[final + at + 4 : final + at + 6] = (UDP_HEADER + last).to_bytes(2)
        if whole.version == 6:
            if last < whole.size:
                view[final + 4 : final + 6] = (whole.headers + last - 40).to_bytes(2)
            return
        if last < whole.size:
            view[final + 2 : final + 4] = (whole.headers + last).to_bytes(2)
            self._sum_header(final, at)
        if (int(heads[begin, 1]) >> 16) + number > MODULUS + 1 or int(heads[begin, 2]) & MODULUS < number:
            # Where identification or checksum wraps on the way, they do not count together.
            for index in range(number):
                self._sum_header(start + index * self._stride, at)

    def _sum_header(self, at: int, size: int) -> None:
        self._view[at + 10 : at + 12] = b"\0\0"
        self._view[at + 10 : at + 12] = checksum(self._view[at : at + size]).to_bytes(2)


def _network(base: list[int], whole: Super, first: int) -> None:
    """The IP header of segment ``first``: IPv4's identification counts up (RFC 6864 §4), its checksum follows."""
    length = whole.headers + whole.size
    if whole.version == 6:
        base[1] = base[1] & MODULUS | (length - 40) << 16
        return
    named = (base[1] >> 16) + first
    change = length - (base[0] & MODULUS) + named % (MODULUS + 1) - (base[1] >> 16)
    sums = MODULUS - (base[2] & MODULUS) + change + 2 * MODULUS
    base[0] = base[0] & ~MODULUS | length
    base[1] = base[1] & MODULUS | (named & MODULUS) << 16
    base[2] = base[2] & ~MODULUS | (MODULUS - 1 - (sums - 1) % MODULUS)


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
    """Put the checksum in that the kernel has left to the device: its field holds the pseudo-header's sum.

    Raises :class:`Malformed` where its place is not in the packet.
    """
    start, field = at + offload.start, at + offload.start + offload.place
    _check_place(length, offload)
    value = checksum(view[start : at + length])
    if value == 0 and offload.place == UDP_PLACE:
        value = MODULUS
    view[field : field + 2] = value.to_bytes(2)


def finish_checksums(octets: Octets, at: int, count: int, stride: int, length: int, offload: Offload) -> None:
    """:func:`finish_checksum` for packets of one length, ``stride`` apart. Up to three octets behind each are lost."""
    _check_place(length, offload)
    width = length - offload.start
    if width & 3:
        columns(octets, at + length, count, stride, -width & 3)[:] = 0
    sums = sums_of(octets, at + offload.start, count, stride, width + (-width & 3))
    values = MODULUS - 1 - (sums - 1) % MODULUS
    if offload.place == UDP_PLACE:
        values[values == 0] = MODULUS
    numbers(octets, at + offload.start + offload.place, count, stride, ">u2")[:] = values


def _check_place(length: int, offload: Offload) -> None:
    if offload.start + offload.place + 2 > length:
        raise Malformed("a packet's checksum cannot be finished", why="its place is behind the packet's end")
