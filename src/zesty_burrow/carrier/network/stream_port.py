"""A TCP connection of a session: octets in and out, in the calls that a UDP socket of a tunnel has.

With it, what all ports over TCP share: the socket, what has come, and what waits to be sent.
"""

from __future__ import annotations

import socket
from contextlib import suppress

from zesty_burrow.carrier.data_path.udp_port import Burst
from zesty_burrow.carrier.network.udp_socket import mark_socket
from zesty_burrow.core.net import Endpoint

MAX_WAITING = 1 << 20
"""Octets that may wait for the network; a session that has more to say is broken."""
CHUNK = 256 << 10
TCP_INSTEAD = 26
"""Octets of TCP with time stamps (32) and a length (2), less those of UDP (8)."""


def stream_socket(peer: Endpoint, *, marked: bool) -> socket.socket:
    """A socket for a connection to ``peer``, not connected; ``marked``: as a tunnel's own, for the guard."""
    family = socket.AF_INET6 if ":" in peer[0] else socket.AF_INET
    channel = socket.socket(family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
    try:
        if marked:
            mark_socket(channel)
        channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    except OSError:
        channel.close()
        raise
    return channel


def received(channel: socket.socket) -> bytes | None:
    """What has come; empty at the end of the stream or where it is broken; None if nothing has come yet."""
    try:
        return channel.recv(CHUNK)
    except BlockingIOError:
        return None
    except OSError:
        return b""


def send_waiting(channel: socket.socket, waiting: bytearray) -> bool:
    """Give the network what waits, as far as it takes it; whether something still waits.

    A broken connection takes nothing any more: what waits is dropped, and reading tells of the end.
    """
    try:
        while waiting:
            del waiting[: channel.send(waiting)]
    except BlockingIOError:
        return True
    except OSError:
        waiting.clear()
    return False


class StreamPort:
    """Begins to connect at once. ``marked``: as a tunnel's own, for the guard.

    ``waiting``: whether octets wait for the network; ``ended``: nothing more comes.
    """

    def __init__(self, peer: Endpoint, *, marked: bool = False) -> None:
        self.channel = stream_socket(peer, marked=marked)
        self.ended = False
        self._peer = peer
        self._out = bytearray()
        # A network that is unreachable is the session's to notice, by time.
        with suppress(OSError):
            self.channel.connect(peer)

    @property
    def descriptor(self) -> int:
        """The socket's; -1 once it is closed."""
        return self.channel.fileno()

    @property
    def waiting(self) -> bool:
        """Whether ``flush`` is to be called once the socket takes more."""
        return bool(self._out)

    def receive(self) -> list[Burst]:
        """What has come; a burst of no octets is the end of the stream."""
        data = received(self.channel)
        if data is None:
            return []
        self.ended = not data
        return [Burst(memoryview(data), 0, len(data), max(len(data), 1), self._peer)]

    def send(self, data: bytes, to: Endpoint) -> None:
        """Put octets behind those that wait. Raises ``OSError`` where too many do; ``to`` is the one peer."""
        if len(self._out) + len(data) > MAX_WAITING:
            raise OSError("the connection takes nothing more")
        self._out += data
        self.flush()

    def flush(self) -> None:
        """Give the network what waits, as far as it takes it."""
        send_waiting(self.channel, self._out)
