"""A UDP socket by itself."""

from __future__ import annotations

import socket

from zesty_burrow.core.net import Endpoint
from zesty_burrow.host.guard.plan import MARK

MAX_DATAGRAM = 65535
BUFFER = 16 << 20
"""Octets that the kernel keeps for us while we are not given a processor."""
_FORCED = {socket.SO_RCVBUF: 33, socket.SO_SNDBUF: 32}
"""SO_RCVBUFFORCE and SO_SNDBUFFORCE: beyond the machine's limit, where we may."""


def mark_socket(channel: socket.socket) -> None:
    """What this socket sends is a tunnel's own, for the guard. Needs CAP_NET_ADMIN; raises ``OSError``."""
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, MARK)


def udp_socket(family: socket.AddressFamily, address: Endpoint | None = None) -> socket.socket:
    """A non-blocking UDP socket with large buffers, bound if an address is given."""
    channel = socket.socket(family, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC)
    for option, forced in _FORCED.items():
        try:
            channel.setsockopt(socket.SOL_SOCKET, forced, BUFFER)
        except OSError:
            channel.setsockopt(socket.SOL_SOCKET, option, BUFFER)
    if address is not None:
        if family == socket.AF_INET6:
            channel.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        channel.bind(address)
    return channel
