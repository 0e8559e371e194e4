"""Callers of a gateway by TCP (RFC 9329): their connections, and the one port by which all callers are answered."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from zesty_burrow.carrier.data_path.udp_port import Burst, TooLong, UdpPort
from zesty_burrow.carrier.network.stream_port import TCP_INSTEAD, received, send_waiting
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.wire.stream_framing import FrameReader, StreamFraming

MOST = 200
"""Connections at a time."""
MAX_WAITING = 512 << 10


@dataclass(slots=True)
class _Connection:
    channel: socket.socket
    reader: FrameReader = field(default_factory=lambda: FrameReader(awaits_prefix=True))
    out: bytearray = field(default_factory=bytearray)


class StreamCallers:
    """Accepts connections at ``endpoint``; ``on_burst`` is called with each message that has come.

    ``send`` and the rest are those of a port: datagrams go by the connection of the caller that they are for.
    """

    splits = joins = False
    more_headers = TCP_INSTEAD

    def __init__(self, family: int, endpoint: Endpoint, on_burst: Callable[[Burst], None]) -> None:
        self.too_long: TooLong | None = None
        self.connections: dict[Endpoint, _Connection] = {}
        self._on_burst = on_burst
        self._framing = StreamFraming()
        self._loop = asyncio.get_running_loop()
        self._listener = socket.socket(family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
        self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            self._listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        self._listener.bind(endpoint)
        self._listener.listen(64)
        self._loop.add_reader(self._listener.fileno(), self._accept)

    def treat_too_long(self, how: TooLong) -> None:
        """Nothing: a byte stream has no datagrams that could be too long for the path."""

    def _accept(self) -> None:
        with suppress(OSError):
            channel, address = self._listener.accept()
            if len(self.connections) >= MOST:
                channel.close()
                return
            channel.setblocking(False)
            channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            caller = (address[0], address[1])
            self.connections[caller] = _Connection(channel)
            self._loop.add_reader(channel.fileno(), self._readable, caller)

    def drop_all(self) -> None:
        """As a middle box does that resets connections; callers connect again."""
        for caller in list(self.connections):
            self._close(caller)

    def _close(self, caller: Endpoint) -> None:
        connection = self.connections.pop(caller)
        self._loop.remove_reader(connection.channel.fileno())
        self._loop.remove_writer(connection.channel.fileno())
        connection.channel.close()

    def _readable(self, caller: Endpoint) -> None:
        connection = self.connections[caller]
        data = received(connection.channel)
        if data is None:
            return
        try:
            found = connection.reader.feed(data)
        except Malformed:
            found, data = [], b""
        for one in found:
            self._on_burst(Burst(memoryview(one), 0, len(one), len(one), caller))
        if not data and caller in self.connections:
            self._close(caller)

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """Raises ``OSError`` where the caller has no connection, or too much waits for it."""
        del traffic_class
        connection = self.connections.get(to)
        if connection is None:
            raise OSError("this caller has no connection any more")
        if len(connection.out) > MAX_WAITING:
            raise BlockingIOError("the connection takes nothing more at the moment")
        connection.out += self._framing.frame(data)
        self._flush(to)

    def _flush(self, caller: Endpoint) -> None:
        connection = self.connections[caller]
        if send_waiting(connection.channel, connection.out):
            self._loop.add_writer(connection.channel.fileno(), self._flush, caller)
        else:
            self._loop.remove_writer(connection.channel.fileno())


class EitherPort(UdpPort):
    """The gateway's UDP socket; what is for a caller with a connection goes by that."""

    def __init__(self, channel: socket.socket, disabled: frozenset[str], streams: StreamCallers) -> None:
        super().__init__(channel, disabled)
        self._streams = streams

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """One datagram."""
        if to in self._streams.connections:
            self._streams.send(data, to, traffic_class)
        else:
            super().send(data, to, traffic_class)
