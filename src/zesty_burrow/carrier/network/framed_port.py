"""Datagrams in a TCP connection, framed as their protocol wants it, in the calls that a UDP socket of a tunnel has."""

from __future__ import annotations

import asyncio
import socket
from contextlib import suppress

from zesty_burrow.carrier.data_path.udp_port import Burst, TooLong
from zesty_burrow.carrier.network.stream_port import TCP_INSTEAD, received, send_waiting, stream_socket
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.session import Framing

MAX_WAITING = 256 << 10
"""Octets that may wait for the network: what comes then is lost, as in any full queue; TCP inside slows down by it."""
GIVE_UP_MS = 10_000


class FramedPort:
    """Begins to connect at once. ``marked``: as a tunnel's own, for the guard.

    ``ended``: the connection is lost; ``connect`` begins another. ``splits`` and ``joins``: see :class:`UdpPort`.
    """

    splits = joins = False
    more_headers = TCP_INSTEAD

    def __init__(self, peer: Endpoint, framing: Framing, *, marked: bool = False) -> None:
        self.too_long: TooLong | None = None
        self.ended = False
        self._peer, self._framing, self._marked = peer, framing, marked
        self._loop = asyncio.get_running_loop()
        self._out = bytearray()
        self._writing = False
        self.connect()

    def connect(self) -> None:
        """A new connection; what waited for the old one is dropped; the protocol repeats it if needed."""
        self.channel = stream_socket(self._peer, marked=self._marked)
        # What nobody acknowledges for so long is lost: then the connection is made again.
        self.channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, GIVE_UP_MS)
        self.ended = False
        self._reader = self._framing.reader()
        self._out = bytearray(self._framing.begin())
        # A network that is unreachable is noticed by time.
        with suppress(OSError):
            self.channel.connect(self._peer)
        self._wait_to_write()

    def close(self) -> None:
        """Let go of the connection."""
        self._stop_writing()
        self.ended = True
        self.channel.close()

    @property
    def descriptor(self) -> int:
        """The socket's; -1 once it is closed."""
        return self.channel.fileno()

    def treat_too_long(self, how: TooLong) -> None:
        """Nothing: a byte stream has no datagrams that could be too long for the path."""

    def receive(self) -> list[Burst]:
        """What has come, each datagram a burst of its own."""
        data = received(self.channel)
        if data is None:
            return []
        try:
            found = self._reader.feed(data)
        except Malformed:
            # RFC 9329 §3.1: what cannot be read any more is closed.
            found, data = [], b""
        self.ended = not data
        return [Burst(memoryview(one), 0, len(one), len(one), self._peer) for one in found]

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """Put a datagram behind those that wait. Raises ``OSError`` where too many do; ``to`` is the one peer."""
        del to, traffic_class
        if len(self._out) > MAX_WAITING:
            raise BlockingIOError("the connection takes nothing more at the moment")
        self._out += self._framing.frame(data)
        if not self._writing:
            self._flush()

    def _wait_to_write(self) -> None:
        if not self._writing:
            self._loop.add_writer(self.channel.fileno(), self._flush)
            self._writing = True

    def _stop_writing(self) -> None:
        if self._writing and self.channel.fileno() >= 0:
            self._loop.remove_writer(self.channel.fileno())
        self._writing = False

    def _flush(self) -> None:
        if send_waiting(self.channel, self._out):
            self._wait_to_write()
        else:
            self._stop_writing()
