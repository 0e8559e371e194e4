"""Outwards: what the tunnel device has, to ESP in UDP.

It is read into slots, split where the kernel handed it over in one piece, sealed in place and sent with as few calls as
can be.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Sequence
from itertools import groupby
from typing import NamedTuple

import numpy as np

from zesty_burrow.carrier.habits import LONGEST, SHORT, Habits
from zesty_burrow.carrier.tunnel import Tunnel
from zesty_burrow.core import encapsulation, too_big
from zesty_burrow.core.esp.batch import FEW, Run, Sealer
from zesty_burrow.core.esp.slots import ROOM, Slots, tight_stride
from zesty_burrow.core.ip import TCP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import Octets
from zesty_burrow.core.offload.split import Portion, Splitter, Super, finish_checksum, finish_checksums, read_super
from zesty_burrow.core.offload.vnet import Offload, read_offload
from zesty_burrow.core.protection import Combined
from zesty_burrow.core.works import Works
from zesty_burrow.errors import Malformed
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

SUPERS = 4
"""Packets of many segments that are taken in turn before the other direction gets its turn."""
IPV6_HEADER = 40
STRIPS = 8
"""Lengths of segments for which there is a strip of slots."""
KNOWN_WAYS = 4096

Route = Callable[[bytes, bytes], Tunnel | None]
"""The tunnel for a packet, by its source and destination; None where it goes nowhere."""


class _Piece(NamedTuple):
    """A packet of many segments in ``octets``, and the way that it goes."""

    octets: Octets
    whole: Super
    tunnel: Tunnel
    inner: int

    def goes_with(self, other: _Piece) -> bool:
        """Whether another one may be sealed together with this one: one shape and way, and no short segment between."""
        alike = self.whole[2:] == other.whole[2:] and self[2:] == other[2:]
        return alike and (self.whole.length - self.whole.headers) % self.whole.size == 0


class Waiting(NamedTuple):
    """A packet by itself that was read into a slot."""

    length: int
    offload: Offload | None


class _Strip(NamedTuple):
    """Slots for segments, and what works in them."""

    slots: Slots
    splitter: Splitter
    sealer: Sealer


class Outward:
    """From one tunnel device to the tunnels behind it, among which ``route`` chooses.

    ``turned_away``: packets that the selectors do not allow, or that are too long, or that are not what the device says
    of them. ``longest``: octets of a packet by itself.
    """

    count = 32
    """Packets that are read before they are sealed together."""

    def __init__(self, device: TunDevice, mtu: int, habits: Habits, works: Works, route: Route) -> None:
        self.device, self.habits = device, habits
        self._works = works
        self._header = vnet.SIZE if device.header else 0
        self._route = route
        self._mtu = mtu
        self.turned_away = 0
        self._ways: dict[bytes, Tunnel | None] = {}
        self.longest = max(mtu, too_big.LEAST_IPV6)
        self._slots = Slots(self.count, self.longest, LONGEST + vnet.SIZE)
        self._sealer = works.sealer(self._slots)
        self._strips: dict[int, _Strip] = {}
        view, before = self._slots.view, self._header
        self._places = [self._slots.packet(index) for index in range(self.count)]
        self._reads = [[view[at - before : at + LONGEST]] for at in self._places]
        self._areas = [Slots(1, LONGEST) for _ in range(SUPERS)]
        self._crowded = False

    def choose_again(self) -> None:
        """``route`` may answer otherwise from now on."""
        self._ways.clear()

    def send(self) -> int:
        """Seal and send what the device has; the number of packets."""
        slots, before, reads, places = self._slots, self._header, self._reads, self._places
        descriptor = self.device.descriptor
        waiting: list[Waiting] = []
        pieces: list[_Piece] = []
        sent = taken = read = 0
        # Where packets come one by one the first is sent before another is looked for: nobody waits for company.
        at_once = not self._crowded
        while len(waiting) < self.count and taken < SUPERS:
            # What many segments are read behind is kept until they are sent together.
            if pieces:
                area = self._areas[taken]
                at = area.packet(0)
                room = [area.view[at - before : at + LONGEST]]
            else:
                area, at, room = slots, places[len(waiting)], reads[len(waiting)]
            try:
                length = os.readv(descriptor, room) - before
            except OSError:
                # Nothing there; or the device is down for the moment.
                break
            read += 1
            offload = read_offload(bytes(area.view[at - before : at])) if before and length > 0 else None
            if offload is not None and offload.kind:
                sent += self._send(waiting)
                waiting.clear()
                taken += 1
                piece = self._piece(area, at, length, offload)
                if piece is not None:
                    if pieces and not pieces[-1].goes_with(piece):
                        sent += self._send_pieces(pieces)
                        pieces.clear()
                    pieces.append(piece)
            elif length > slots.longest:
                self._too_long(bytes(area.view[at : at + length]), slots.longest)
            elif at_once and read == 1 and length > 0:
                sent += self._send_one(area.view, at, Waiting(length, offload))
            elif length > 0 and not pieces:
                one = waiting[-1] if waiting else None
                if one is None or one.length != length or one.offload is not offload:
                    one = Waiting(length, offload)
                waiting.append(one)
            elif length > 0:
                sent += self._send_pieces(pieces) + self._send_one(area.view, at, Waiting(length, offload))
                pieces.clear()
        self._crowded = read > 1
        return sent + self._send_pieces(pieces) + self._send(waiting)

    def take(self, area: Slots, at: int, length: int, offload: Offload | None) -> int:
        """Send a packet that somebody else has read; how many that made."""
        if offload is not None and offload.kind:
            piece = self._piece(area, at, length, offload)
            return self._send_pieces([piece]) if piece is not None else 0
        if length > self.longest:
            self._too_long(bytes(area.view[at : at + length]), self.longest)
        elif length > 0:
            return self._send_one(area.view, at, Waiting(length, offload))
        return 0

    def way_of(self, view: memoryview, at: int, length: int) -> Tunnel | None:
        """The tunnel for a packet."""
        return self._way(view, at, length)[0]

    def send_again(self, tunnel: Tunnel, datagrams: Sequence[memoryview], marks: Sequence[int]) -> None:
        """Sealed datagrams that the network has refused, each with the class that it goes with: perhaps one by one."""
        begin = 0
        for mark, alike in groupby(marks):
            end = begin + len(list(alike))
            try:
                tunnel.port.send_many(datagrams[begin:end], tunnel.peer, mark)
            except OSError as problem:
                self._refused(problem, tunnel)
            begin = end

    def _finish(self, waiting: Sequence[Waiting]) -> None:
        """Put in the checksums that the kernel has left to us, many at a time."""
        slots, begin = self._slots, 0
        for one, alike in groupby(waiting):
            count = len(list(alike))
            if one.offload is not None:
                finish_checksums(slots.octets, slots.packet(begin), count, slots.stride, one.length, one.offload)
            begin += count

    def _piece(self, area: Slots, at: int, length: int, offload: Offload) -> _Piece | None:
        """A packet of many segments, and which way it goes; None where it cannot go."""
        tunnel, inner = self._way(area.view, at, length)
        try:
            whole = read_super(area.octets, at, length, offload)
        except Malformed:
            tunnel = None
        if tunnel is None:
            self.turned_away += 1
            return None
        longest = min(self._slots.longest, tunnel.limit)
        if whole.headers + whole.size > longest:
            self._too_long(bytes(area.view[at : at + length]), longest)
            return None
        return _Piece(area.octets, whole, tunnel, inner)

    def _send_pieces(self, pieces: list[_Piece]) -> int:
        """Packets of many segments that go the same way: split and sealed together, sent one by one."""
        portions: list[Portion] = []
        sent = waiting = 0
        for octets, whole, *_ in pieces:
            for first in range(0, whole.segments, SEGMENTS):
                number = min(SEGMENTS, whole.segments - first)
                if waiting + number > SUPERS * SEGMENTS:
                    sent += self._send_portions(portions, pieces[0].tunnel, pieces[0].inner)
                    portions, waiting = [], 0
                portions.append(Portion(octets, whole, first, number))
                waiting += number
        return sent + (self._send_portions(portions, pieces[0].tunnel, pieces[0].inner) if portions else 0)

    def _strip(self, length: int, *, tight: bool) -> _Strip:
        """Where segments of a length are split to and sealed: one behind the other as they are sent, if ``tight``."""
        key = length if tight else 0
        found = self._strips.get(key)
        if found is None:
            count = SUPERS * SEGMENTS
            slots = Slots(count, length, 0, tight_stride(length)) if tight else Slots(count, self._slots.longest)
            splitter = self._works.splitter(slots.octets, ROOM, count, slots.stride)
            found = _Strip(slots, splitter, self._works.sealer(slots))
            if len(self._strips) >= STRIPS:
                del self._strips[next(iter(self._strips))]
            self._strips[key] = found
        return found

    def _send_portions(self, portions: list[Portion], tunnel: Tunnel, inner: int) -> int:
        whole, count = portions[0].whole, sum(portion.number for portion in portions)
        each, protection = whole.headers + whole.size, tunnel.flow.outbound.protection
        tight = isinstance(protection, Combined) and protection.twelve_octets
        slots, splitter, sealer = self._strip(each, tight=tight)
        last = splitter.place(portions)
        runs = [Run(count - (last < each), each, whole.version)] if count > 1 or last == each else []
        if last < each:
            runs.append(Run(1, last, whole.version))
        sealed = sealer.seal(tunnel.flow.outbound, 0, runs)
        outer, begin = encapsulation.outer_class(inner, self.habits.dscp), 0
        for portion in portions:
            end, size = begin + portion.number, len(sealed[begin])
            start = slots.packet(begin) - 16
            try:
                if tight and tunnel.port.splits and portion.number * size <= ROOM_IN_PIECE:
                    piece = slots.view[start : slots.packet(end - 1) - 16 + len(sealed[end - 1])]
                    tunnel.port.send_piece(piece, size, tunnel.peer, outer)
                else:
                    tunnel.port.send_alike(sealed[begin:end], tunnel.peer, outer)
            except OSError as problem:
                self._refused(problem, tunnel)
            begin = end
        return count

    def _send_one(self, view: memoryview, at: int, one: Waiting) -> int:
        try:
            if one.offload is not None:
                finish_checksum(view, at, one.length, one.offload)
        except Malformed:
            self.turned_away += 1
            return 0
        # Only a whole checksum can be adjusted where a segment size is lowered.
        tunnel, inner = self._way(view, at, one.length)
        if tunnel is None:
            self.turned_away += 1
            return 0
        return self._send_each(bytes(view[at : at + one.length]), tunnel, inner)

    def _send(self, waiting: Sequence[Waiting]) -> int:
        """What lies in the first slots, in runs that go the same way with the same class."""
        slots, view = self._slots, self._slots.view
        if len(waiting) <= FEW:
            return sum(self._send_one(view, slots.packet(index), one) for index, one in enumerate(waiting))
        try:
            self._finish(waiting)
        except Malformed:
            self.turned_away += len(waiting)
            return 0
        lengths = [one.length for one in waiting]
        begin = sent = 0
        for (tunnel, inner), alike in groupby(self._ways_of(lengths)):
            end = begin + len(list(alike))
            if tunnel is None:
                self.turned_away += end - begin
            elif max(lengths[begin:end]) > tunnel.limit:
                for index in range(begin, end):
                    at = slots.packet(index)
                    sent += self._send_each(bytes(view[at : at + lengths[index]]), tunnel, inner)
            else:
                versions = [view[at] >> 4 for at in self._places[begin:end]]
                kinds = groupby(zip(lengths[begin:end], versions, strict=True))
                runs = [Run(len(list(same)), *kind) for kind, same in kinds]
                sealed = self._sealer.seal(tunnel.flow.outbound, begin, runs)
                try:
                    outer = encapsulation.outer_class(inner, self.habits.dscp)
                    send = tunnel.port.send_alike if len(runs) == 1 else tunnel.port.send_many
                    send(sealed, tunnel.peer, outer)
                except OSError as problem:
                    self._refused(problem, tunnel)
                sent += end - begin
            begin = end
        return sent

    def _ways_of(self, lengths: Sequence[int]) -> list[tuple[Tunnel | None, int]]:
        """For each of the packets in the first slots its tunnel and class; looked at once where all are of one flow."""
        slots, count = self._slots, len(lengths)
        at = self._places[0]
        if not self.habits.clamp and lengths.count(lengths[0]) == count and lengths[0] >= IPV6_HEADER:
            words = np.ndarray((count, 10), "<u4", slots.octets.data, at, (slots.stride, 4))
            # Version, class and length; and the addresses.
            first, last = (3, 5) if slots.view[at] >> 4 == 4 else (2, 10)
            addresses = words[:, first:last]
            same = words[:, 0].tobytes() == words[0, 0].tobytes() * count
            if same and addresses.tobytes() == addresses[0].tobytes() * count:
                return [self._way(slots.view, at, lengths[0])] * count
        return [self._way(slots.view, at, length) for at, length in zip(self._places, lengths, strict=False)]

    @staticmethod
    def _refused(problem: OSError, tunnel: Tunnel) -> None:
        """What the network refuses is lost as a packet on the way would be; IKE notices whether the way is gone.

        Where it was too long the way has become narrower: what follows is held against that (RFC 4301 §8.2).
        """
        if problem.errno in (errno.EMSGSIZE, errno.EINVAL):
            tunnel.measure()

    def _way(self, view: memoryview, at: int, length: int) -> tuple[Tunnel | None, int]:
        """The tunnel for a packet, and its traffic class."""
        head = bytes(view[at : at + 40])
        if head[0] >> 4 == 4 and length >= 20:
            addresses, inner = head[12:20], head[1]
            protocol = head[9]
        elif head[0] >> 4 == 6 and length >= 40:
            addresses, inner = head[8:40], encapsulation.traffic_class(head)
            protocol = head[6]
        else:
            return None, 0
        try:
            tunnel = self._ways[addresses]
        except KeyError:
            tunnel = self._find_way(addresses)
        if protocol == TCP and length <= SHORT and self.habits.clamp and tunnel is not None:
            encapsulation.clamp_segment_size(view, at, length, min(self._mtu, tunnel.limit))
        return tunnel, inner

    def _find_way(self, addresses: bytes) -> Tunnel | None:
        half = len(addresses) // 2
        source, destination = addresses[:half], addresses[half:]
        tunnel = self._route(source, destination)
        if tunnel is not None and not tunnel.flow.lets_out(source, destination):
            tunnel = None
        if len(self._ways) >= KNOWN_WAYS:
            self._ways.clear()
        self._ways[addresses] = tunnel
        return tunnel

    # Packets that are too long (RFC 4301 §8).

    def _send_each(self, packet: bytes, tunnel: Tunnel, inner: int) -> int:
        """A packet by itself, which may be longer than the way takes: cut where its sender allows that."""
        if len(packet) <= tunnel.limit:
            parts = [packet]
        elif too_big.may_be_cut(packet):
            parts = too_big.cut(packet, tunnel.limit)
        else:
            self._too_long(packet, tunnel.limit)
            return 0
        outer = encapsulation.outer_class(inner, self.habits.dscp)
        for part in parts:
            try:
                tunnel.port.send(tunnel.flow.outbound.seal(part), tunnel.peer, outer)
            except OSError as problem:
                self._refused(problem, tunnel)
        return len(parts)

    def _too_long(self, packet: bytes, limit: int) -> None:
        told = too_big.too_big(packet, limit)
        if told is not None:
            self.device.write([vnet.NOTHING[: self._header] + told])
        self.turned_away += 1
