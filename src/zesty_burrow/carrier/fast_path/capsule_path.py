"""The fast path of tunnels whose packets go in capsules of a byte stream: each call carries many of them.

What the loops do not know goes the plain path: other tunnels' packets, capsules without a packet, odd packets.
"""

from __future__ import annotations

import os
import time

import numpy as np

from zesty_burrow.carrier.data_path.carried import CarriedPath
from zesty_burrow.carrier.data_path.options import MAX_PACKET
from zesty_burrow.carrier.data_path.plain_path import AT_ONCE, addresses_of
from zesty_burrow.carrier.data_path.tunnel import QueuedTunnel
from zesty_burrow.carrier.fast_path.loops import capsules, records
from zesty_burrow.carrier.fast_path.loops.join import ROW as JOIN_ROW
from zesty_burrow.carrier.fast_path.loops.records import Octets, Receiving
from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.packets import offload_header
from zesty_burrow.core.packets.offload_header import read_offload
from zesty_burrow.core.packets.varint import read_varint
from zesty_burrow.protocols.session import CapsuleChannel

FRONT = 64
"""Octets before a stream's: for the offload header of its first packet."""
ROOM = 1 << 20
"""Octets of a stream that are looked at together."""
PART = ROOM - capsules.LONGEST - FRONT
KNOWN = 16
"""Pairs of addresses whose packets the loops let in; the others are asked about."""
DATAGRAM, CONTROL_TYPES = 0, frozenset((1, 2, 3))
"""RFC 9297 §3.5, RFC 9484 §12.4."""


class _Intake:
    """The octets received from one channel's stream. The loops take packets; the rest is left in whole capsules."""

    def __init__(self, owner: CapsulePath, channel: CapsuleChannel) -> None:
        self.channel, self._owner = channel, owner
        self._octets: Octets = np.zeros(FRONT + ROOM, np.uint8)
        self._kept = self._skip = 0
        self._pairs = np.zeros((KNOWN, capsules.PAIR), np.uint8)
        self._known = self._next_pair = 0
        self._revision, self._stream = channel.revision, -1

    def take(self, data: bytes) -> bytes:
        """Hand packets to the device; what is left is the session's to read."""
        channel = self.channel
        if self._revision != channel.revision:
            self._known, self._revision = 0, channel.revision
        if self._stream != channel.stream:
            begun, self._skip = channel.take_over()
            self._stream, self._kept, data = channel.stream, 0, begun + data
        return b"".join([self._take(data[at : at + PART]) for at in range(0, len(data), PART)])

    def _take(self, data: bytes) -> bytes:
        at, end = FRONT, FRONT + self._kept + len(data)
        self._octets[FRONT + self._kept : end] = np.frombuffer(data, np.uint8)
        left: list[bytes] = []
        while at < end:
            if self._skip:
                passed = min(self._skip, end - at)
                self._skip, at = self._skip - passed, at + passed
                continue
            why, at = self._owner.deliver(self.channel, self._octets, at, end, self._pairs, self._known)
            if why == capsules.MORE:
                break
            if why == capsules.UNKNOWN and self._learn(at):
                continue
            before, at = at, self._odd(at, end, left)
            if at == before:
                break
        self._kept = end - at
        self._octets[FRONT : FRONT + self._kept] = self._octets[at:end].copy()
        return b"".join(left)

    def _learn(self, at: int) -> bool:
        """Ask whether packets between the addresses of this one may come in; if so the loops know them from here on."""
        view = self._octets.data
        _, after = read_varint(view[at : at + 16], 0)
        length, begin = read_varint(view[at : at + 16], after)
        packet, end = at + begin + 1, at + begin + length
        addresses = addresses_of(bytes(view[packet : min(packet + 40, end)]))
        if not self.channel.allows_in(addresses):
            return False
        row = self._pairs[self._next_pair]
        row[0] = len(addresses) // 2
        row[1 : 1 + len(addresses)] = np.frombuffer(addresses, np.uint8)
        self._next_pair = (self._next_pair + 1) % KNOWN
        self._known = min(self._known + 1, KNOWN)
        return True

    def _odd(self, at: int, end: int, left: list[bytes]) -> int:
        """A capsule that the loops leave: where the next one begins; the same place where more of it is to come."""
        view = self._octets.data
        kind, after = read_varint(view[at:end], 0)
        length, begin = read_varint(view[at:end], after) if kind >= 0 else (-1, 0)
        if length < 0:
            return at
        if kind != DATAGRAM and kind not in CONTROL_TYPES:
            self._skip = length
            return at + begin
        whole = at + begin + length
        if length > capsules.LONGEST:
            # The session's own reader says what is wrong with it, and ends the stream.
            left.append(bytes(view[at:end]))
            return end
        if whole > end:
            return at
        if kind == DATAGRAM:
            # Under another context, or between addresses that may not.
            self._owner.drop(self.channel)
        else:
            left.append(bytes(view[at:whole]))
        return whole


class CapsulePath:
    """Replaces a data path's loops: ``left_over`` sends what the device has, channels are diverted to here."""

    def __init__(self, path: CarriedPath) -> None:
        self._path = path
        device = path.plain.device
        self._header = offload_header.SIZE if device.header else 0
        self._states = np.zeros(1, records.STATE)
        for name, value in {
            "device": device.descriptor,
            "header": self._header,
            "joins_tcp": TCP in device.joins,
            "joins_udp": UDP in device.joins,
        }.items():
            self._states[0][name] = value
        self._lengths = np.zeros(records.MOST_AT_ONCE, np.int64)
        self._joined = np.zeros((records.MOST_AT_ONCE + 1, JOIN_ROW), np.int64)
        self._parts = np.zeros((records.MOST_AT_ONCE, 2), np.int64)
        self._scratch = np.zeros(1, np.uint8)
        self._counts = np.zeros(3, np.int64)
        self._read: Octets = np.zeros(FRONT + MAX_PACKET + offload_header.SIZE, np.uint8)
        self._framed: Octets = np.zeros(2 * MAX_PACKET, np.uint8)
        self._intakes: dict[object, _Intake] = {}
        self.refresh()

    def refresh(self) -> None:
        """Tunnels have come or gone."""
        channels = [one.channel for one in self._path.plain.queued if isinstance(one.channel, CapsuleChannel)]
        for intake in [one for channel, one in self._intakes.items() if channel not in channels]:
            intake.channel.divert(None)
            del self._intakes[intake.channel]
        for channel in channels:
            if channel not in self._intakes:
                intake = self._intakes[channel] = _Intake(self, channel)
                channel.divert(intake.take)

    def stop(self) -> None:
        """Leave everything to the plain path."""
        for intake in self._intakes.values():
            intake.channel.divert(None)
        self._intakes.clear()

    def deliver(
        self, channel: CapsuleChannel, octets: Octets, at: int, end: int, pairs: Octets, known: int
    ) -> tuple[int, int]:
        """Hand the device the packets of a stream; why it has ended, and where."""
        counts = self._counts
        counts[:] = 0
        receiving = Receiving(octets, self._lengths, self._joined, self._parts, self._scratch)
        why, where = capsules.deliver(self._states, receiving, at, end, pairs, known, counts)
        if counts[0]:
            channel.count_in(int(counts[0]), int(counts[1]), time.monotonic())
        return int(why), int(where)

    def drop(self, channel: CapsuleChannel) -> None:
        """A packet that may not come in."""
        self._path.plain.dropped += 1

    def left_over(self) -> int:
        """Send what the device has; how many packets."""
        plain, sent, now = self._path.plain, 0, time.monotonic()
        queued = plain.queued
        view, descriptor = self._read.data, plain.device.descriptor
        place = FRONT - self._header
        for _ in range(AT_ONCE):
            if plain.is_blocked:
                break
            try:
                length = os.readv(descriptor, [view[place:]]) - self._header
            except OSError:
                # Nothing there; or the device is down for the moment.
                break
            if length <= 0:
                continue
            sent += self._send(length, now)
        for one in queued:
            one.flush()
        return sent

    def _send(self, length: int, now: float) -> int:
        plain, view = self._path.plain, self._read.data
        tunnel = plain.route(addresses_of(bytes(view[FRONT : FRONT + min(length, 40)])))
        intake = self._intakes.get(tunnel.channel) if isinstance(tunnel, QueuedTunnel) else None
        if self._header and isinstance(tunnel, QueuedTunnel) and intake is not None and self._is_plain_enough():
            limit = min(tunnel.limit, plain.mtu)
            count, size, end = capsules.frame(self._read, FRONT, length, limit, self._framed, 0)
            if count:
                tunnel.send_capsules(intake.channel, bytes(self._framed.data[:end]), int(count), int(size), now)
                return int(count)
        offload = read_offload(bytes(view[FRONT - self._header : FRONT])) if self._header else None
        return plain.send_packet(bytes(view[FRONT : FRONT + length]), offload, now)

    def _is_plain_enough(self) -> bool:
        """Where TCP's MSS is clamped, a packet that is not one of many may be a SYN."""
        return not self._path.plain.options.clamp or bool(self._read[FRONT - 9])
