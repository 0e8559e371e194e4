"""The data path of one tunnel device: the plain path, and the fast path from when there is much to carry."""

from __future__ import annotations

import asyncio
import time
from typing import Protocol

from zesty_burrow.carrier.data_path.carried import FOR_CAPSULES, FOR_DATAGRAMS, FOR_FRAMES, PacketLoops
from zesty_burrow.carrier.data_path.options import FAST_PATH, OFFLOADS, PathOptions
from zesty_burrow.carrier.data_path.plain_path import PlainPath
from zesty_burrow.carrier.data_path.tunnel import PathTunnel, Tunnel
from zesty_burrow.carrier.fast_path.switch import FastPathSwitch
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS
from zesty_burrow.protocols.session import CapsuleChannel

ESP_AT_MOST = 37 + 18
"""Octets that ESP with a combined-mode cipher adds (SPI, number, IV, padding, its length, next header, ICV), and those
of UDP, L2TP and PPP where these are within it."""
TCP_HEADERS, KERNEL_RESERVE = 52, 384
"""IPv4 and TCP with its time stamps; and what the kernel keeps for headers when it sizes a piece."""


def offloads_in_use(device: TunDevice, port: Offloading) -> tuple[str, ...]:
    """Those of ``OFFLOADS`` that device and socket have agreed to."""
    used = {
        "device-tcp": TCP in device.joins,
        "device-udp": UDP in device.joins,
        "socket-send": port.splits,
        "socket-receive": port.joins,
    }
    return tuple(name for name in OFFLOADS if used[name])


def largest_piece(mtu: int) -> int:
    """Octets of many segments that the kernel should hand over at most: what goes out again by one call."""
    segments = min(SEGMENTS, ROOM_IN_PIECE // (mtu + ESP_AT_MOST))
    return segments * (mtu - TCP_HEADERS) + KERNEL_RESERVE


class Offloading(Protocol):
    """A socket or connection with the offloads that its kernel does for it."""

    splits: bool
    joins: bool


class DataPath:
    """Packets between ``device`` and the tunnels that were added. ``wake`` is set when a channel wants new keys."""

    def __init__(
        self,
        device: TunDevice,
        mtu: int,
        options: PathOptions | None = None,
        disabled: frozenset[str] = frozenset(),
        wake: asyncio.Event | None = None,
    ) -> None:
        self.mtu = mtu
        self.wake = wake
        self.revision = 0
        self.plain = PlainPath(device, mtu, options or PathOptions())
        self.loops: PacketLoops | None = None
        self.switch = FastPathSwitch(disabled=FAST_PATH in disabled)
        self._revisions: dict[Tunnel, int] = {}
        self._reading: asyncio.AbstractEventLoop | None = None
        self._paused = False
        self._kind = FOR_DATAGRAMS
        self._failure: Exception | None = None

    @property
    def unknown(self) -> int:
        """Datagrams whose label is nobody's."""
        return self.plain.unknown

    @property
    def dropped(self) -> int:
        """Packets that no tunnel allows, that are too long, or that are malformed."""
        return self.plain.dropped

    @property
    def words(self) -> str:
        return self.switch.words

    def add(self, tunnel: PathTunnel) -> None:
        """Use this tunnel for packets, rather than those that were added before it."""
        self.plain.tunnels.insert(0, tunnel)
        self.refresh()

    def remove(self, tunnel: PathTunnel) -> None:
        """Carry nothing by this tunnel any more."""
        if tunnel in self.plain.tunnels:
            self.plain.tunnels.remove(tunnel)
        self.refresh()

    def refresh(self) -> None:
        """A tunnel's channel, socket, peer or limit has changed."""
        plain = self.plain
        plain.tunnels_changed()
        self._revisions = {tunnel: tunnel.channel.revision for tunnel in plain.tunnels if isinstance(tunnel, Tunnel)}
        self.revision += 1
        kind = self._look_for_loops()
        if self.loops is not None and kind != self._kind:
            self.loops.stop()
            self.loops = None
            self.switch.begin_again()
        elif self.loops is not None:
            self.loops.refresh()
        self._kind = kind

    @property
    def kind_of_loops(self) -> str:
        """Which loops can carry at present; empty where none can."""
        return self._kind

    def _look_for_loops(self) -> str:
        """Which loops can carry: those for datagrams know UDP sockets alone, those for
        frames connections alone; those for capsules leave others alone."""
        if all(isinstance(tunnel, Tunnel) and isinstance(tunnel.port, UdpPort) for tunnel in self.plain.tunnels):
            return FOR_DATAGRAMS
        if any(isinstance(one.channel, CapsuleChannel) for one in self.plain.queued):
            return FOR_CAPSULES
        ports = [tunnel.port for tunnel in self.plain.tunnels if isinstance(tunnel, Tunnel)]
        is_framed = any(isinstance(port, FramedPort) for port in ports)
        return FOR_FRAMES if is_framed and not any(isinstance(port, UdpPort) for port in ports) else ""

    def start_reading(self) -> None:
        """Take what the device has, from the running event loop."""
        if self._reading is None:
            self._reading = asyncio.get_running_loop()
            self._paused = False
            self._reading.add_reader(self.plain.device.descriptor, self._readable)

    def stop_reading(self) -> None:
        """Leave packets in the device."""
        if self._reading is not None:
            self._reading.remove_reader(self.plain.device.descriptor)
            self._reading = None
            self._paused = False

    @property
    def takes_no_datagrams(self) -> bool:
        """Whether all datagrams are the session's."""
        return not self.plain.by_label

    def go_on(self) -> None:
        """A session has looked at its connection: it may have received packets, or take some again."""
        self.plain.receive_queued()
        if self._paused and self._reading is not None and not self.plain.is_blocked:
            self._paused = False
            self._reading.add_reader(self.plain.device.descriptor, self._readable)

    def _readable(self) -> None:
        try:
            self.outbound_ready()
            if self._reading is not None and self.plain.is_blocked:
                # What the device has stays there; TCP inside is slowed down by it.
                self._paused = True
                self._reading.remove_reader(self.plain.device.descriptor)
        except Exception as problem:
            self._failure = self._failure or problem
            if self.wake is None:
                raise
            self.wake.set()

    def raise_failure(self) -> None:
        """Raise what has failed while packets were sent."""
        if self._failure is not None:
            failure, self._failure = self._failure, None
            raise failure

    def close(self) -> None:
        self.stop_reading()
        self.switch.cancel()
        if self.loops is not None:
            self.loops.stop()
            self.loops = None

    def outbound_ready(self) -> int:
        """Seal and send what the device has; the number of packets."""
        left = self.loops.left_over() if self.loops is not None else 0
        sent = left or self.plain.send()
        self._carried(sent)
        return sent

    def inbound(self, burst: Burst) -> tuple[list[Tunnel], list[bytes]]:
        """Open what has come, and hand it to the device: tunnels that were used, datagrams that are the session's."""
        used, others = self.plain.receive(burst, time.monotonic())
        for tunnel in used:
            # What came may have changed by which keys packets go.
            if tunnel.channel.revision != self._revisions.get(tunnel):
                self.refresh()
                break
        self._carried(-(-burst.total // burst.size))
        return used, others

    def _carried(self, packets: int) -> None:
        if self._kind and self.switch.is_due(packets):
            self.switch.begin(self)
        if self.wake is not None and any(tunnel.channel.wants_rekey for tunnel in self.plain.tunnels):
            self.wake.set()
