"""Datagrams in a TCP connection, framed as their protocol wants it, in the calls that a UDP socket of a tunnel has."""

from __future__ import annotations

import socket
from collections.abc import Callable

from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import Burst, TooLong
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.proxy import ProxyRoute
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.session import Framing


class FramedPort(StreamPort):
    """Begins to connect at once. ``marked``: as a tunnel's own, for the guard. ``connections``: how many there were."""

    def __init__(
        self,
        peer: Endpoint,
        framing: Framing,
        *,
        marked: bool = False,
        accepted: socket.socket | None = None,
        through: ProxyRoute | None = None,
    ) -> None:
        self.too_long: TooLong | None = None
        self.connections = 0
        self._framing = framing
        self._reader = framing.reader()
        self._diverted: Callable[[bytes], list[bytes]] | None = None
        super().__init__(peer, marked=marked, accepted=accepted, through=through)
        if accepted is not None:
            self._out += self.opening()

    def opening(self) -> bytes:
        """The framing's prefix; what comes is read from its beginning."""
        self._reader = self._framing.reader()
        self.connections += 1
        return self._framing.begin()

    def divert(self, take: Callable[[bytes], list[bytes]] | None) -> None:
        """Have what comes given to ``take``, which gives back the datagrams that are left; None: no more."""
        self._diverted = take

    def take_over(self) -> bytes:
        """What the reader has begun to read of the present connection."""
        return self._reader.hand_over()

    def treat_too_long(self, how: TooLong) -> None:
        """Nothing: a byte stream has no datagrams that could be too long for the path."""

    def receive(self) -> list[Burst]:
        """What has come, each datagram a burst of its own."""
        data = self.read()
        if data is None:
            return []
        try:
            found = (
                self._reader.feed(data) if self._diverted is None or not self._reader.is_begun else self._diverted(data)
            )
        except Malformed:
            # RFC 9329 §3.1: what cannot be read any more is closed.
            found, data = [], b""
        self.ended = not data
        return [Burst(memoryview(one), 0, len(one), len(one), self._peer) for one in found]

    def send_frames(self, frames: bytes) -> None:
        """Put datagrams that are framed already behind those that wait; lost where too many do."""
        if not self.is_full:
            super().send(frames, self._peer)

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """Put a datagram behind those that wait. Raises ``OSError`` where too many do; ``to`` is the one peer."""
        if self.is_full:
            # Lost, as in any full queue; TCP inside slows down by it.
            raise BlockingIOError("the connection takes nothing more at the moment")
        super().send(self._framing.frame(data), to, traffic_class)
