"""A TCP connection of a session: octets in and out, in the calls that a UDP socket of a tunnel has.

With it, what all ports over TCP share: the socket, what has come, and what waits to be sent.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress

from zesty_burrow.carrier.ports.udp_port import Burst
from zesty_burrow.carrier.ports.udp_socket import mark_socket
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.proxy import ProxyRoute, not_reached

FULL = 256 << 10
"""Octets that wait for the network at most before nothing more is made."""
GIVE_UP_MS = 10_000
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
    """Begins to connect at once. ``marked``: as a tunnel's own, for the guard; ``accepted``: a connection of a caller.

    ``through``: a proxy that opens the connection; until it has, what is sent is held back.

    ``ended``: the connection is lost; ``connect`` begins another. ``on_room`` is called once little waits again.
    ``splits`` and ``joins``: see :class:`UdpPort`.
    """

    splits = joins = False
    more_headers = TCP_INSTEAD

    def __init__(
        self,
        peer: Endpoint,
        *,
        marked: bool = False,
        accepted: socket.socket | None = None,
        through: ProxyRoute | None = None,
    ) -> None:
        self.ended = False
        self._through, self._proxy = through, None if through is None else through.client()
        self._held = bytearray()
        self._was_through = through is None
        self.on_room: Callable[[], None] | None = None
        self._peer, self._marked = peer, marked
        self._out = bytearray()
        self._writing = False
        self._loop = asyncio.get_running_loop()
        if accepted is not None:
            self.channel = accepted
            accepted.setblocking(False)
            accepted.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        else:
            self.connect()

    def connect(self) -> None:
        """A new connection; what waited for the old one is dropped; the protocol repeats it if needed."""
        target = self._peer if self._through is None else self._through.proxy
        self.channel = stream_socket(target, marked=self._marked)
        # What nobody acknowledges for so long is lost: then the connection is made again.
        self.channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_USER_TIMEOUT, GIVE_UP_MS)
        self.ended = False
        self._held.clear()
        self._proxy = None if self._through is None else self._through.client()
        self._out = bytearray(self.opening() if self._proxy is None else self._proxy.hello())
        # A network that is unreachable is noticed by time.
        with suppress(OSError):
            self.channel.connect(target)
        self._wait_to_write()

    def opening(self) -> bytes:
        """What a new connection begins with."""
        return b""

    def close(self) -> None:
        self._stop_writing()
        self.ended = True
        self._out.clear()
        self.channel.close()

    @property
    def descriptor(self) -> int:
        """The socket's; -1 once it is closed."""
        return self.channel.fileno()

    @property
    def is_full(self) -> bool:
        """Whether so much waits for the network that nothing should be added."""
        return len(self._out) > FULL

    def receive(self) -> list[Burst]:
        """What has come; a burst of no octets is the end of the stream."""
        data = self.read()
        if data is None:
            return []
        self.ended = not data
        return [Burst(memoryview(data), 0, len(data), max(len(data), 1), self._peer)]

    @property
    def silent_proxy(self) -> str:
        """The proxy that has not opened the connection so far; empty without a proxy, or once it has."""
        return "" if self._through is None or self._was_through else self._through.where

    def read(self) -> bytes | None:
        """What has come from the peer; see :func:`received`. Raises :class:`ProxyFailed`.

        A proxy that has opened the connection once is tried again, whatever becomes of it.
        """
        data = received(self.channel)
        if data == b"" and self._through is not None and not self._was_through:
            raise not_reached(self._through.where)
        if not data or self._proxy is None or self._proxy.is_open:
            return data
        said, rest = self._proxy.feed(data)
        if self._proxy.is_open:
            self._was_through = True
            said += self.opening() + self._held
            self._held.clear()
        self._put(said)
        return rest or None

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """Put octets behind those that wait; ``to`` is the one peer. Who sends looks at ``is_full`` before."""
        del to, traffic_class
        if self._proxy is not None and not self._proxy.is_open:
            self._held += data
        else:
            self._put(data)

    def _put(self, data: bytes) -> None:
        if self.channel.fileno() < 0:
            # Between two connections nothing can be sent; the protocol repeats it if needed.
            return
        if not self._out and not self._writing:
            try:
                sent = self.channel.send(data)
            except BlockingIOError:
                sent = 0
            except OSError:
                # Broken: reading tells of it.
                return
            if sent == len(data):
                return
            data = data[sent:]
        self._out += data
        self._wait_to_write()

    def _wait_to_write(self) -> None:
        if not self._writing:
            self._loop.add_writer(self.channel.fileno(), self._on_writable)
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

    def _on_writable(self) -> None:
        self._flush()
        if self.on_room is not None and not self.is_full:
            self.on_room()
