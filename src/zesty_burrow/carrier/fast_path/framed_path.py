"""The fast path of tunnels whose datagrams go in TCP connections (RFC 9329): each call carries many.

What the loops do not know is left to the plain path: IKE's own messages, SAs and ciphers that are not theirs.
"""

from __future__ import annotations

import os
import time

import numpy as np

from zesty_burrow.carrier.data_path.carried import CarriedPath
from zesty_burrow.carrier.data_path.options import MAX_PACKET
from zesty_burrow.carrier.data_path.plain_path import AT_ONCE
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.fast_path.esp_tables import EspTables
from zesty_burrow.carrier.fast_path.loops import framed, records
from zesty_burrow.carrier.fast_path.loops.device import ROW as READ_ROW
from zesty_burrow.carrier.fast_path.loops.esp import SCRATCH
from zesty_burrow.carrier.fast_path.loops.join import ROW as JOIN_ROW
from zesty_burrow.carrier.fast_path.loops.records import Octets, Receiving, Sending
from zesty_burrow.carrier.fast_path.loops.slots import Slots
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.packets import encapsulation, offload_header, too_big
from zesty_burrow.core.packets.offload_header import Offload, read_offload
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

FRONT = 64
"""Octets before a stream's: for the offload header of its first packet."""
ROOM = 1 << 20
"""Octets of a stream that are looked at together."""
GATHERED = 128 << 10
"""Octets of a port's messages that are sent together."""


class _Intake:
    """The octets received from one connection. The loops take ESP; other messages are left, in their order."""

    def __init__(self, owner: FramedPath, port: FramedPort) -> None:
        self.port, self._owner = port, owner
        self._octets: Octets = np.zeros(FRONT + ROOM + MAX_PACKET, np.uint8)
        self._kept = 0
        self._connection = -1

    def take(self, data: bytes) -> list[bytes]:
        """Hand packets to the device; the messages that are left. Raises ``Malformed`` for a length that cannot be."""
        if self._connection != self.port.connections:
            self._connection, self._kept = self.port.connections, 0
            data = self.port.take_over() + data
        left: list[bytes] = []
        for begin in range(0, len(data), ROOM):
            left += self._take(data[begin : begin + ROOM])
        return left

    def _take(self, data: bytes) -> list[bytes]:
        at, end = FRONT, FRONT + self._kept + len(data)
        self._octets[FRONT + self._kept : end] = np.frombuffer(data, np.uint8)
        view, left = self._octets.data, []
        while True:
            why, at = self._owner.open(self._octets, at, end)
            if why == framed.BROKEN:
                raise Malformed("a connection was closed", why="a message's length cannot be (RFC 9329 §3.1)")
            if why == framed.MORE:
                break
            size = int.from_bytes(view[at : at + framed.LENGTH])
            left.append(bytes(view[at + framed.LENGTH : at + size]))
            at += size
        self._kept = end - at
        self._octets[FRONT : FRONT + self._kept] = self._octets[at:end].copy()
        return [one for one in left if one]


class FramedPath:
    """Replaces a data path's loops: ``left_over`` sends what the device has, ports are diverted to here."""

    def __init__(self, path: CarriedPath) -> None:
        self._path = path
        device, options = path.plain.device, path.plain.options
        self._header = offload_header.SIZE if device.header else 0
        longest = max(path.mtu, too_big.LEAST_IPV6)
        self._slots = Slots(1, longest, MAX_PACKET + offload_header.SIZE)
        self._esp = EspTables(longest)
        self._states = np.zeros(1, records.STATE)
        for name, value in {
            "device": device.descriptor,
            "header": self._header,
            "stride": self._slots.stride,
            "slots": 1,
            "longest": longest,
            "first": self._slots.packet(0),
            "clamp": path.mtu if options.clamp else 0,
            "joins_tcp": TCP in device.joins,
            "joins_udp": UDP in device.joins,
        }.items():
            self._states[0][name] = value
        marks = [encapsulation.outer_class(inner, options.dscp) for inner in range(256)]
        self._sending = Sending(
            self._slots.octets,
            np.zeros((1, READ_ROW), np.int64),
            np.zeros(ROOM_IN_PIECE + MAX_PACKET, np.uint8),
            np.zeros((SEGMENTS, 2), np.int64),
            np.array(marks, np.uint8),
            np.zeros(SCRATCH, np.uint8),
        )
        self._lengths = np.zeros(records.MOST_AT_ONCE, np.int64)
        self._joined = np.zeros((records.MOST_AT_ONCE + 1, JOIN_ROW), np.int64)
        self._parts = np.zeros((records.MOST_AT_ONCE, 2), np.int64)
        self._scratch = np.zeros(SCRATCH, np.uint8)
        self._out: Octets = np.zeros(GATHERED + 2 * MAX_PACKET, np.uint8)
        self._intakes: dict[FramedPort, _Intake] = {}
        self.refresh()

    def refresh(self) -> None:
        """Tunnels have come or gone."""
        ports = {
            tunnel.port
            for tunnel in self._path.plain.tunnels
            if isinstance(tunnel, Tunnel) and isinstance(tunnel.port, FramedPort)
        }
        for port in [one for one in self._intakes if one not in ports]:
            self._intakes.pop(port).port.divert(None)
        for port in ports:
            if port not in self._intakes:
                intake = self._intakes[port] = _Intake(self, port)
                port.divert(intake.take)

    def stop(self) -> None:
        """Leave everything to the plain path."""
        for port in self._intakes:
            port.divert(None)
        self._intakes.clear()

    def open(self, octets: Octets, at: int, end: int) -> tuple[int, int]:
        """Open a stream's packets; why that has ended, and where."""
        self._esp.look(self._path, None)
        receiving = Receiving(octets, self._lengths, self._joined, self._parts, self._scratch)
        why, where = framed.open_framed(self._states, self._esp.tables, receiving, at, end)
        rows = self._esp.tables.inbound["last"]
        rows[rows == 1] = time.monotonic_ns()
        self._settle()
        return int(why), int(where)

    def _settle(self) -> None:
        self._path.plain.dropped += int(self._states[0]["dropped"])
        self._states[0]["dropped"] = 0
        self._esp.settle(self._path)

    def _seal(self, length: int, number: int, filled: int) -> tuple[int, int, int]:
        """Seal and frame the packet in the slot after earlier ones; the number, the SA's row, the end offset."""
        if length <= 0:
            return 0, -1, filled
        found = framed.seal_framed(self._states, self._esp.tables, self._sending, length, number, self._out, filled)
        count, row, end = map(int, found)
        if count == framed.FAILED:
            raise ProgramFault("the cipher library has refused a packet")
        if count and not isinstance(self._esp.tunnels[row][0].port, FramedPort):
            raise ProgramFault("the loops for streams were given a tunnel that goes by none")
        return count, row, end

    def _send(self, port: object, filled: int) -> int:
        """Hand a connection what was gathered for it; 0."""
        if filled and isinstance(port, FramedPort):
            port.send_frames(bytes(self._out.data[:filled]))
        return 0

    def left_over(self) -> int:
        """Send what the device has; how many packets."""
        plain, sent, filled = self._path.plain, 0, 0
        self._esp.look(self._path, None)
        view, first, now = self._slots.view, self._slots.packet(0), time.monotonic()
        place = first - self._header
        port: object = None
        for _ in range(AT_ONCE):
            if plain.is_blocked:
                break
            try:
                length = os.readv(plain.device.descriptor, [view[place:]]) - self._header
            except OSError:
                # Nothing there; or the device is down for the moment.
                break
            offload = read_offload(bytes(view[place:first])) if self._header else None
            count, row, end = self._seal(length, _number_of(offload), filled)
            if count <= 0:
                filled = self._send(port, filled)
                sent += plain.send_packet(bytes(view[first : first + length]), offload, now) if length > 0 else 0
                continue
            target = self._esp.tunnels[row][0].port
            if target is not port and filled:
                # Of another caller than those before.
                fresh = self._out[filled:end].copy()
                self._send(port, filled)
                self._out[: len(fresh)], end = fresh, len(fresh)
            port, filled, sent = target, end, sent + count
            if filled > GATHERED:
                filled = self._send(port, filled)
        self._send(port, filled)
        rows = self._esp.tables.outbound["last"]
        rows[rows == 1] = time.monotonic_ns()
        self._settle()
        return sent


def _number_of(offload: Offload | None) -> int:
    """An offload as the loops have it: flags, kind, where a checksum begins and where it is put."""
    if offload is None:
        return 0
    return offload.flags & 1 | offload.kind << 8 | offload.start << 16 | offload.place << 32
