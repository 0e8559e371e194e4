"""A raw socket for GRE (RFC 2637 §4): packets in and out, in the calls that a UDP socket of a tunnel has."""

from __future__ import annotations

import select
import socket
from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.carrier.ports.udp_port import Burst, TooLong
from zesty_burrow.carrier.ports.udp_socket import MAX_DATAGRAM, mark_socket
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import MachineError
from zesty_burrow.protocols.session import GRE_PORT

AT_ONCE = 32
WAIT_MS = 20


class GrePort:
    """``peer``: whose packets are taken; None: everybody's. ``marked``: as a tunnel's own, for the guard.

    ``splits`` and ``joins``: see :class:`UdpPort`. Needs CAP_NET_RAW; raises :class:`MachineError` without.
    """

    splits = joins = False
    is_full = False
    more_headers = 0

    def __init__(self, peer: Endpoint | None = None, own: str = "", *, marked: bool = False) -> None:
        host = peer[0] if peer is not None else own
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        kind = socket.SOCK_RAW | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC
        try:
            self.channel = socket.socket(family, kind, GRE_PORT)
        except PermissionError:
            raise MachineError(
                "a raw socket cannot be opened", why="CAP_NET_RAW is missing", next_step="Run it as root."
            ) from None
        self._is_v6, self._peer = family == socket.AF_INET6, peer
        self.too_long: TooLong | None = None
        with suppress(OSError):
            self.channel.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
        if marked:
            mark_socket(self.channel)
        if own:
            self.channel.bind((own, 0))

    @property
    def descriptor(self) -> int:
        """The socket's; -1 once it is closed."""
        return self.channel.fileno()

    def treat_too_long(self, how: TooLong) -> None:
        """They are cut in any case: a raw socket's packets have no say."""
        self.too_long = how

    def close(self) -> None:
        self.channel.close()

    def receive(self) -> list[Burst]:
        """What has come, each packet by itself, without the header of IP."""
        bursts: list[Burst] = []
        for _ in range(AT_ONCE):
            try:
                data, source = self.channel.recvfrom(MAX_DATAGRAM)
            except OSError:
                break
            # Of IPv4 the header comes along (raw(7)).
            begin, mark = (0, 0) if self._is_v6 or not data else ((data[0] & 15) * 4, data[1])
            if (self._peer is None or source[0] == self._peer[0]) and len(data) > begin:
                size = len(data) - begin
                bursts.append(Burst(memoryview(data), begin, size, size, (source[0], 0), mark))
        return bursts

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """One packet. Raises ``OSError``."""
        del traffic_class
        try:
            self.channel.sendto(data, (to[0], 0))
        except BlockingIOError:
            # The queue is full: wait a little, as a lost packet costs more than the wait.
            poll = select.poll()
            poll.register(self.channel, select.POLLOUT)
            poll.poll(WAIT_MS)
            self.channel.sendto(data, (to[0], 0))

    def send_many(self, packets: Sequence[bytes], to: Endpoint) -> None:
        """Many, one by one; what the system does not take is lost, as on any path."""
        for packet in packets:
            with suppress(OSError):
                self.send(packet, to)
