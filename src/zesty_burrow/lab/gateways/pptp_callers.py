"""Callers of a gateway by PPTP: their connections, and one raw socket for the packets of all of them."""

from __future__ import annotations

import asyncio
import os
import socket
from contextlib import suppress
from ipaddress import ip_address
from typing import Protocol

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.ports.gre_port import GrePort
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import Burst
from zesty_burrow.carrier.session_io import SessionIo
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.core.packets import offload_header
from zesty_burrow.errors import MachineError, Malformed
from zesty_burrow.lab import story
from zesty_burrow.protocols.ppp.link import CalledConfig
from zesty_burrow.protocols.ppp.sign_in import MSCHAPV2
from zesty_burrow.protocols.pptp.control import PORT
from zesty_burrow.protocols.pptp.gateway_session import PptpCaller
from zesty_burrow.protocols.session import Down, NetworkSettings, Up
from zesty_burrow.records import dataclass, field

MOST = 64
MRU = 1400
STREAM = 1


class PptpCallersOwner(Protocol):
    place: story.Site
    faults: frozenset[str]

    @property
    def data_path(self) -> DataPath | None:
        """Its tunnel device's; None where it has none."""

    def password_of(self, account: str) -> str | None:
        """An account's."""

    def assign(self, account: str, wanted: tuple[bytes, ...]) -> NetworkSettings | None:
        """Inner addresses for an account."""

    def began(self, caller: PptpCaller, tunnel: Tunnel, remote: tuple[AddressRange, ...]) -> None:
        """A caller's tunnel is up."""

    def ended(self, caller: PptpCaller) -> None:
        """A caller's tunnel is over."""


@dataclass(slots=True)
class _Machine:
    """One caller behind the calls of a connection; its packets go by the gateway's own socket."""

    caller: PptpCaller
    packets: GrePort

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        """Take octets of the connection."""
        self.caller.receive(data, now)

    def send(self, now: float) -> list[Datagram]:
        """Octets for the connection; packets go at once."""
        self.packets.send_many(self.caller.send_packets(), self.caller.peer)
        octets = self.caller.send_control()
        return [Datagram(octets, STREAM, self.caller.peer)] if octets else []

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self.caller.next_timer()

    def handle_timer(self, now: float) -> None:
        self.caller.handle_timer(now)

    def next_event(self) -> Up | Down | None:
        """The next event, or None."""
        return self.caller.next_event()


@dataclass(slots=True)
class _Connection:
    caller: PptpCaller
    io: SessionIo[Up | Down]


@dataclass(slots=True)
class PptpCallers:
    """Accepts connections for ``owner``; ``wake`` is set when something has happened to one of them."""

    owner: PptpCallersOwner
    family: socket.AddressFamily
    wake: asyncio.Event
    connections: dict[Endpoint, _Connection] = field(default_factory=dict)
    _packets: GrePort | None = None
    _listener: socket.socket | None = None

    def start(self) -> None:
        """Listen, where there is a right to raw sockets."""
        with suppress(MachineError):
            self._packets = GrePort(own=self.owner.place.outer)
        if self._packets is None:
            return
        listener = self._listener = socket.socket(
            self.family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC
        )
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listener.bind((self.owner.place.outer, PORT))
        listener.listen(16)
        loop = asyncio.get_running_loop()
        loop.add_reader(listener.fileno(), self._accept)
        loop.add_reader(self._packets.descriptor, self._readable)

    def _accept(self) -> None:
        if self._listener is None or self._packets is None:
            return
        with suppress(OSError):
            channel, address = self._listener.accept()
            if len(self.connections) >= MOST or "silent" in self.owner.faults:
                channel.close()
                return
            peer = (address[0], address[1])
            own = ip_address(f"{self.owner.place.pool4}1").packed
            config = CalledConfig(
                MSCHAPV2, self.owner.password_of, lambda account: self.owner.assign(account, ()), own,
                self.owner.place.name, MRU, encrypted=True,
            )  # fmt: skip
            caller = PptpCaller(config, os.urandom, peer)
            machine = _Machine(caller, self._packets)
            io: SessionIo[Up | Down] = SessionIo(machine, {STREAM: StreamPort(peer, accepted=channel)}, self.wake)
            caller.start(io.now())
            self.connections[peer] = _Connection(caller, io)

    def _readable(self) -> None:
        if self._packets is None or "silent" in self.owner.faults:
            return
        for burst in self._packets.receive():
            self._take(burst)

    def _take(self, burst: Burst) -> None:
        data = next(burst.datagrams())
        call = int.from_bytes(data[6:8])
        for connection in self.connections.values():
            channel = connection.caller.channel
            if channel is None or connection.caller.call != call or connection.caller.peer[0] != burst.source[0]:
                continue
            packet = b""
            with suppress(Malformed):
                packet = channel.open(data, connection.io.now())
            if packet:
                self._deliver(channel.allows_in(b"", _addresses(packet)), packet)
            else:
                connection.caller.look(connection.io.now())
                connection.io.flush()
            return

    def _deliver(self, is_allowed: bool, packet: bytes) -> None:
        path = self.owner.data_path
        if path is not None and is_allowed:
            before = offload_header.NOTHING if path.plain.device.header else b""
            path.plain.device.write([before + packet])
            # The kernel has often answered by now.
            path.outbound_ready()

    def look(self) -> None:
        """See what has happened to callers. To be called when ``wake`` was set."""
        for peer, connection in list(self.connections.items()):
            for event in connection.io.take_events():
                if isinstance(event, Up) and self._packets is not None and connection.caller.channel is not None:
                    tunnel = Tunnel(connection.caller.channel, self._packets, peer, waits=False)
                    tunnel.measure()
                    self.owner.began(connection.caller, tunnel, event.remote)
                elif isinstance(event, Down):
                    self._end(peer)
                    break

    def _end(self, peer: Endpoint) -> None:
        connection = self.connections.pop(peer)
        connection.io.flush()
        connection.io.close()
        self.owner.ended(connection.caller)

    def drop_all(self) -> None:
        for peer in list(self.connections):
            self._end(peer)

    def end_all(self) -> None:
        """End all tunnels from this side."""
        for connection in list(self.connections.values()):
            connection.caller.close(connection.io.now())
            connection.io.flush()
        self.look()


def _addresses(packet: bytes) -> bytes:
    return packet[12:20] if packet[0] >> 4 == 4 else packet[8:40]
