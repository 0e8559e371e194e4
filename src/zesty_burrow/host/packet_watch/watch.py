"""Watch what leaves by the outer devices (AF_PACKET): the kernel passes on only frames that no allowance explains.

Each is looked at once more here, with the sockets as they are at that moment; what is left is counted by sender and
place, with the process as far as the kernel can tell.
"""

from __future__ import annotations

import select
import socket
import struct
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple, TypeVar

from zesty_burrow.core.ways_out.capture_filter import OwnPort, WatchedPackets, capture_filter
from zesty_burrow.core.ways_out.packet import SeenPacket, explanation, read_frame
from zesty_burrow.core.ways_out.seen import UnexplainedPackets, WatchSeen
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.guard.plan import MARK
from zesty_burrow.host.packet_watch.reserve import attach, packet_socket, release
from zesty_burrow.host.packet_watch.senders import Senders
from zesty_burrow.host.ways_out.sockets import sockets
from zesty_burrow.records import dataclass, replace

SO_TIMESTAMPNS, SOL_PACKET, PACKET_STATISTICS = 35, 263, 6
ETH_P_ALL = 3
ROOM = 4 << 20
MOST_ROWS, MOST_KEPT = 256, 10_000
MOST_AT_ONCE = 512
LONGEST = 65_536
REFRESH, MOST_LOOKS = 1.0, 50
"""At most so many looks at the tunnels, as they are, in so many seconds."""
PCAP = struct.pack("=IHHiIII", 0xA1B23C4D, 2, 4, 0, 0, LONGEST, 1)
"""The head of a file of captures with nanoseconds (draft-ietf-opsawg-pcap §4), link type Ethernet."""


T = TypeVar("T")


class WatchedDevice(NamedTuple):
    """An outer device."""

    number: int
    name: str
    is_ethernet: bool


@dataclass(frozen=True, slots=True)
class KeptFrame:
    """A frame that nothing explains, for a file of captures. ``at``: nanoseconds since 1970."""

    at: int
    frame: bytes
    is_ethernet: bool


def own_ports() -> tuple[OwnPort, ...]:
    """The local ports of the tunnels' own sockets, by the mark that they have."""
    return tuple(dict.fromkeys(OwnPort(row.protocol, row.local[1]) for row in sockets() if row.mark == MARK))


class PacketWatch:
    """``open``, ``read`` again and again, ``result``, ``close``. ``now``: what is watched as it is at a moment; asked
    where something is not explained by what was known, as the tunnels may have gone on.
    """

    def __init__(
        self,
        watched: WatchedPackets,
        devices: Iterable[WatchedDevice],
        now: Callable[[], WatchedPackets] | None = None,
    ) -> None:
        self._watched, self._now = watched, now
        self._devices = list(devices)
        self._channels: dict[int, tuple[socket.socket, WatchedDevice]] = {}
        self._rows: dict[tuple[object, ...], UnexplainedPackets] = {}
        self._senders = Senders()
        self._began, self._since = 0.0, ""
        self._looked, self._looked_at = -1.0, 0
        self._packets = self._lost = 0
        self.kept: list[KeptFrame] = []

    def open(self) -> None:
        """From now on. Raises :class:`RightsMissing` or :class:`MachineError`."""
        self._watched = replace(self._watched, own=own_ports(), mark=MARK)
        self._began, self._since = time.monotonic(), _stamp(time.time_ns())
        try:
            for device in self._devices:
                channel = self._open(device)
                self._channels[channel.fileno()] = (channel, device)
        except PermissionError:
            self.close()
            raise RightsMissing("packets cannot be watched", why="it needs CAP_NET_RAW") from None
        except OSError as problem:
            self.close()
            raise MachineError("packets cannot be watched", why=problem.strerror or str(problem)) from None

    def _open(self, device: WatchedDevice) -> socket.socket:
        kind = socket.SOCK_RAW if device.is_ethernet else socket.SOCK_DGRAM
        # Without a protocol nothing comes until the filter is in place.
        channel = packet_socket(kind)
        try:
            with suppress(ValueError):
                attach(channel, capture_filter(self._watched, device.number, is_ethernet=device.is_ethernet))
            channel.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, ROOM)
            channel.setsockopt(socket.SOL_SOCKET, SO_TIMESTAMPNS, 1)
            channel.setblocking(False)
            channel.bind((device.name, ETH_P_ALL))
        except BaseException:
            release(channel)
            raise
        return channel

    @property
    def channels(self) -> tuple[socket.socket, ...]:
        """Readable when there is something to read."""
        return tuple(channel for channel, _ in self._channels.values())

    def wait(self, seconds: float) -> None:
        """Read for so long."""
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            ready = select.select(self.channels, [], [], left)[0]
            if ready:
                self.read()

    def read(self) -> None:
        """What has come until now, up to a limit."""
        for channel, device in list(self._channels.values()):
            for _ in range(MOST_AT_ONCE):
                try:
                    frame, more, _, origin = channel.recvmsg(LONGEST, 64)
                except OSError:
                    break
                if origin[2] == socket.PACKET_OUTGOING:
                    self._look(frame, device, _time_in(more))

    def _look(self, frame: bytes, device: WatchedDevice, at: int) -> None:
        packet = read_frame(frame, is_ethernet=device.is_ethernet)
        if packet is None:
            self._count((device.name, "frame", frame[:14]), device, None, len(frame), at, frame)
            return
        key = (device.name, packet)
        if key in self._rows:
            self._count(key, device, packet, len(frame), at, frame)
            return
        if explanation(packet, self._watched, device.number):
            return
        self._look_again(at)
        if not explanation(packet, self._watched, device.number):
            sender = self._senders.of(packet, device.number)
            if not explanation(packet, self._watched, device.number, sender.user):
                self._count(key, device, packet, len(frame), at, frame, sender.process)

    def _look_again(self, at: int) -> None:
        """The tunnels may have opened sockets since, or ways to other gateways: what was known stays known."""
        now = time.monotonic()
        if self._looked_at >= at or now - self._looked < REFRESH / MOST_LOOKS:
            return
        self._looked_at = time.time_ns()
        self._watched = replace(self._watched, own=_joined(self._watched.own, own_ports()))
        if self._now is not None:
            with suppress(MachineError):
                fresh = self._now()
                allowed = {
                    version: _joined(rows, fresh.allowed.get(version, ()))
                    for version, rows in self._watched.allowed.items()
                }
                belonging = _joined(self._watched.belonging, fresh.belonging)
                self._watched = replace(self._watched, allowed=allowed, belonging=belonging)
        self._looked = time.monotonic()

    def _count(
        self,
        key: tuple[object, ...],
        device: WatchedDevice,
        packet: SeenPacket | None,
        octets: int,
        at: int,
        frame: bytes,
        process: str = "",
    ) -> None:
        self._packets += 1
        if len(self.kept) < MOST_KEPT:
            self.kept.append(KeptFrame(at, frame, device.is_ethernet))
        known = self._rows.get(key)
        if known is not None:
            last = _stamp(at)
            self._rows[key] = replace(known, packets=known.packets + 1, octets=known.octets + octets, last=last)
        elif len(self._rows) < MOST_ROWS:
            stamp = _stamp(at)
            if packet is None:
                kind = int.from_bytes(frame[12:14])
                what = f"a frame of type {kind:#06x} that holds no packet that can be read"
                self._rows[key] = UnexplainedPackets(device.name, "", "", "", 1, octets, stamp, stamp, what=what)
            else:
                source, destination = packet.endpoint(remote=False), packet.endpoint(remote=True)
                self._rows[key] = UnexplainedPackets(
                    device.name, packet.protocol_name, source, destination, 1, octets, stamp, stamp, process
                )

    def result(self) -> WatchSeen:
        """What was seen until now."""
        for channel, _ in self._channels.values():
            with suppress(OSError):
                _, lost = struct.unpack("=II", channel.getsockopt(SOL_PACKET, PACKET_STATISTICS, 8))
                self._lost += lost
        names = tuple(device.name for device in self._devices)
        seconds = round(time.monotonic() - self._began, 3)
        return WatchSeen(self._since, seconds, names, tuple(self._rows.values()), self._packets, self._lost)

    def close(self) -> None:
        for channel, _ in self._channels.values():
            release(channel)
        self._channels = {}


def write_capture(path: Path, frames: Iterable[KeptFrame]) -> None:
    """A file for analysers (pcap); packets without a frame get an empty one."""
    rows = [PCAP]
    for kept in frames:
        frame = kept.frame
        if not kept.is_ethernet:
            kind = 0x86DD if frame[:1] and frame[0] >> 4 == 6 else 0x0800
            frame = bytes(12) + kind.to_bytes(2) + frame
        rows.append(struct.pack("=IIII", kept.at // 10**9, kept.at % 10**9, len(frame), len(frame)) + frame)
    path.write_bytes(b"".join(rows))


def _joined(known: tuple[T, ...], more: tuple[T, ...]) -> tuple[T, ...]:
    return tuple(dict.fromkeys((*known, *more)))


def _time_in(more: list[tuple[int, int, bytes]]) -> int:
    for level, kind, value in more:
        if (level, kind) == (socket.SOL_SOCKET, SO_TIMESTAMPNS) and len(value) >= 16:
            seconds, rest = struct.unpack_from("=qq", value)
            return int(seconds * 10**9 + rest)
    return time.time_ns()


def _stamp(at: int) -> str:
    moment = datetime.fromtimestamp(at / 10**9, UTC)
    return moment.strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3] + "Z"
