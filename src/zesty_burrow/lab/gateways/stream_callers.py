"""Callers of a gateway by TCP (RFC 9329): their connections, and the one port by which all callers are answered."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress

from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.core.net import Endpoint
from zesty_burrow.protocols.ikev2.wire.stream_framing import CalledFraming

MOST = 200
"""Connections at a time."""


class StreamCallers:
    """Accepts connections at ``endpoint``; ``on_burst`` is called with each message that has come."""

    def __init__(self, family: int, endpoint: Endpoint, on_burst: Callable[[Burst], None]) -> None:
        self.connections: dict[Endpoint, FramedPort] = {}
        self._on_burst = on_burst
        self._framing = CalledFraming()
        self._loop = asyncio.get_running_loop()
        self._listener = socket.socket(family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
        self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            self._listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        self._listener.bind(endpoint)
        self._listener.listen(64)
        self._loop.add_reader(self._listener.fileno(), self._accept)

    def _accept(self) -> None:
        with suppress(OSError):
            channel, address = self._listener.accept()
            if len(self.connections) >= MOST:
                channel.close()
                return
            caller = (address[0], address[1])
            port = self.connections[caller] = FramedPort(caller, self._framing, accepted=channel)
            self._loop.add_reader(port.descriptor, self._readable, caller)

    def drop_all(self) -> None:
        """As a middle box does that resets connections; callers connect again."""
        for caller in list(self.connections):
            self._close(caller)

    def _close(self, caller: Endpoint) -> None:
        port = self.connections.pop(caller)
        self._loop.remove_reader(port.descriptor)
        port.close()

    def _readable(self, caller: Endpoint) -> None:
        port = self.connections[caller]
        for burst in port.receive():
            self._on_burst(burst)
        if port.ended and caller in self.connections:
            self._close(caller)


class EitherPort(UdpPort):
    """The gateway's UDP socket; what is for a caller with a connection goes by that."""

    def __init__(self, channel: socket.socket, disabled: frozenset[str], streams: StreamCallers) -> None:
        super().__init__(channel, disabled)
        self._streams = streams

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        if (connection := self._streams.connections.get(to)) is not None:
            connection.send(data, to, traffic_class)
        else:
            super().send(data, to, traffic_class)
