"""Splits what the kernel hands over in one piece: TCP and UDP of both families, a segment to a slot.

Each segment is the packet that the sender's own stack would have sent (RFC 9293 §3.7, RFC 768): its own lengths,
sequence number, flags and checksums; PSH and FIN on the last alone, CWR on the first alone (RFC 3168 §6.1.2).
"""

from __future__ import annotations

import struct
from collections import OrderedDict
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_burrow.core.checksum import checksum
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import MODULUS, Octets, columns, rising
from zesty_burrow.core.offload.vnet import Offload
from zesty_burrow.errors import Malformed

TCP_HEADER, UDP_HEADER = 20, 8
FIN, PSH, CWR = 0x01, 0x08, 0x80
_LAST_ONLY, _FIRST_ONLY = FIN | PSH, CWR
KEPT = 16


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


@dataclass(frozen=True, slots=True)
class _Place:
    """Views of the slots for segments of one shape: headers as 32-bit words, payloads, payloads with their end and
    that as 32-bit words; and what headers rise by, without and with TCP's sequence number."""

    words: npt.NDArray[np.uint32]
    payload: Octets
    behind: Octets
    quads: npt.NDArray[np.uint32]
    steps: tuple[npt.NDArray[np.uint32], npt.NDArray[np.uint32]]
    form: struct.Struct


class Splitter:
    """Puts segments into ``count`` slots of a buffer, ``offset`` and ``stride`` say where."""

    def __init__(self, octets: Octets, offset: int, count: int, stride: int) -> None:
        self._octets, self._view = octets, octets.data
        self._offset, self._count, self._stride = offset, count, stride
        self._places: OrderedDict[tuple[int, ...], _Place] = OrderedDict()

    def place(self, source: Octets, whole: Super, first: int, count: int) -> int:
        """Segments ``first`` to ``first + count`` into the slots, from the first on; the length of the last.

        Up to three octets behind each are overwritten.
        """
        head, size = whole.headers, whole.size
        begin = whole.at + head + first * size
        last = min(size, whole.length - head - (first + count - 1) * size)
        views = self._views(whole)
        full = count if last == size else count - 1
        views.payload[:full] = source[begin : begin + full * size].reshape(full, size)
        # Zeros behind a segment do not change its checksum, so that one width serves all.
        if size & 3:
            views.behind[:full, size:] = 0
        if full < count:
            views.behind[full, :last] = source[begin + full * size : begin + full * size + last]
            views.behind[full, last:] = 0
        payload = np.add.reduce(views.quads[:count], axis=1, dtype=np.uint64).tolist()
        base = list(views.form.unpack_from(source.data, whole.at))
        self._write_heads(base, whole, first, count, last, payload, views)
        return head + last

    def _views(self, whole: Super) -> _Place:
        head, size, key = whole.headers, whole.size, whole[2:]
        found = self._places.get(key)
        if found is None:
            at, count, stride = self._offset, self._count, self._stride
            words = np.ndarray((count, head // 4), ">u4", self._octets.data, at, (stride, 4))
            behind = columns(self._octets, at + head, count, stride, (size + 3) & ~3)
            quads = np.ndarray((count, (size + 3) // 4), "<u4", self._octets.data, at + head, (stride, 4))
            counted = whole.version == 4
            steps = (
                rising(count, head, whole.transport, size, counted=counted, tcp=False),
                rising(count, head, whole.transport, size, counted=counted, tcp=True),
            )
            form = struct.Struct(f">{head // 4}I")
            found = self._places[key] = _Place(words, behind[:, :size], behind, quads, steps, form)
            if len(self._places) > KEPT:
                self._places.popitem(last=False)
        return found

    def _write_heads(
        self,
        base: list[int],
        whole: Super,
        first: int,
        count: int,
        last: int,
        payload: list[int],
        views: _Place,
    ) -> None:
        """``base``: the headers of the whole as 32-bit words, which become those of segment ``first``.

        ``payload``: the sums of the payloads as the machine reads them; in network order they are 256 times that.
        """
        size, place, is_tcp = whole.size, whole.transport // 4, whole.protocol == TCP
        inner = whole.headers + size - whole.transport
        _network(base, whole, first)
        check = place + (4 if is_tcp else 1)
        # The kernel has left the pseudo-header's sum, length included, in the checksum's place.
        pseudo = (base[check] >> 16 if is_tcp else base[check] & MODULUS) - (whole.length - whole.transport) + inner
        flags = 0
        if is_tcp:
            base[place + 1] = (base[place + 1] + first * size) & 0xFFFFFFFF
            flags = base[place + 3] >> 16 & 0xFF
            base[place + 3] &= ~((_LAST_ONLY | _FIRST_ONLY) << 16)
            base[check] &= MODULUS
        else:
            base[check] = inner << 16
        words = views.steps[is_tcp][:count] + np.array(base, np.uint32)
        # The base has the first one's sequence number in its sum; those behind it rise from there.
        fixed, rise = pseudo + sum(base[place:]), size * is_tcp
        sums = [256 * each + fixed + rise * index for index, each in enumerate(payload)]
        if is_tcp and base[place + 1] + size * count > 1 << 32:
            # Beyond 2^32, which leaves a remainder of one, they begin anew.
            wrapped = -(-((1 << 32) - base[place + 1]) // size)
            sums[wrapped:] = [one - 1 for one in sums[wrapped:]]
        ends = first + count == whole.segments
        sums[-1] -= (size - last) * (1 if is_tcp else 2) - (flags & _LAST_ONLY if ends else 0)
        sums[0] += 0 if first else flags & _FIRST_ONLY
        if is_tcp:
            words[:, check] += np.array([MODULUS - 1 - (one - 1) % MODULUS << 16 for one in sums], np.uint32)
        else:
            words[:, check] += np.array([MODULUS - one % MODULUS for one in sums], np.uint32)
        views.words[:count] = words
        self._correct(whole, count, last, flags if ends else 0, flags if not first else 0)
        wraps = (base[1] >> 16) + count > MODULUS + 1 or base[2] & MODULUS < count
        if whole.version == 4 and wraps:
            self._sum_each(count, whole.transport)

    def _correct(self, whole: Super, count: int, last: int, last_flags: int, first_flags: int) -> None:
        """What the first and the last have of their own."""
        view, at = self._view, whole.transport
        final = self._offset + (count - 1) * self._stride
        if last_flags & _LAST_ONLY:
            view[final + at + 13] |= last_flags & _LAST_ONLY
        if first_flags & _FIRST_ONLY:
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
    """Put the checksum in that the kernel has left to the device: its field holds the pseudo-header's sum."""
    start, field = at + offload.start, at + offload.start + offload.place
    if field + 2 > at + length:
        raise Malformed("a packet's checksum cannot be finished", why="its place is behind the packet's end")
    value = checksum(view[start : at + length])
    if value == 0 and offload.place == 6:
        value = MODULUS
    view[field : field + 2] = value.to_bytes(2)
