"""Sends packets of a size through a tunnel and hears whether they arrive: padded questions to its name server.

An answer to a padded question (RFC 6891, RFC 7830) is short, so only the way there is looked at. The name is one that
no resolver asks others for (RFC 6761 §6.4).
"""

from __future__ import annotations

import asyncio
import socket
import struct
import time
from contextlib import suppress
from ipaddress import IPv4Address

from zesty_burrow.carrier.data_path.tunnel import Tunnel, outer_headers
from zesty_burrow.carrier.ports.udp_port import TooLong
from zesty_burrow.core.dns.question import A, build_query
from zesty_burrow.core.net import UDP, Address
from zesty_burrow.core.packets.checksum import checksum

NAME = "path.invalid"
DNS = 53
OPT, PADDING = 41, 12
TRIES, PATIENCE = 3, 0.7
"""RFC 8899 §5.1.2: MAX_PROBES; seconds for an answer, each time a little more."""


class PathProbe:
    """``own``, ``server``: this side's address in the tunnel and a name server's, of one family."""

    def __init__(self, tunnel: Tunnel, own: Address, server: Address) -> None:
        self._tunnel, self._own, self._server = tunnel, own, server
        self._number = 0

    async def arrives(self, size: int) -> bool:
        """Whether an outer packet of ``size`` octets is answered."""
        inner = self._tunnel.channel.largest_inner(size - outer_headers(self._tunnel.peer[0]))
        family = socket.AF_INET if self._own.version == 4 else socket.AF_INET6
        loop = asyncio.get_running_loop()
        with socket.socket(family, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK) as channel:
            try:
                channel.bind((str(self._own), 0))
                channel.connect((str(self._server), DNS))
            except OSError:
                return False
            port = channel.getsockname()[1]
            for number in range(1, TRIES + 1):
                self._number = (self._number + 1) & 0xFFFF
                self._send(question(self._own, self._server, port, self._number, inner))
                with suppress(OSError, TimeoutError):
                    async with asyncio.timeout(PATIENCE * number):
                        while (await loop.sock_recv(channel, 4096))[:2] != self._number.to_bytes(2):
                            pass
                        return True
        return False

    def _send(self, packet: bytes) -> None:
        port, before = self._tunnel.port, self._tunnel.port.too_long
        # Whatever was claimed before.
        port.treat_too_long(TooLong.SENT)
        with suppress(OSError):
            port.send(self._tunnel.channel.seal(packet, time.monotonic()), self._tunnel.peer)
        if before is not None:
            port.treat_too_long(before)


def question(own: Address, server: Address, port: int, number: int, size: int) -> bytes:
    """An IP packet of ``size`` octets: a question for an address, padded."""
    headers = (20 if own.version == 4 else 40) + 8
    query = build_query(number, NAME, A)
    padding = max(size - headers - len(query) - 15, 0)
    options = struct.pack(">HH", PADDING, padding) + bytes(padding)
    query = query[:10] + b"\0\1" + query[12:] + struct.pack(">BHHIH", 0, OPT, 1232, 0, len(options)) + options
    length = 8 + len(query)
    datagram = struct.pack(">HHHH", port, DNS, length, 0) + query
    pseudo = own.packed + server.packed + struct.pack(">II", length, UDP)
    total = checksum(pseudo + datagram) or 0xFFFF
    datagram = datagram[:6] + total.to_bytes(2) + datagram[8:]
    if isinstance(own, IPv4Address):
        head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + length, number, 0x4000, 64, UDP, 0) + own.packed + server.packed
        return head[:10] + checksum(head).to_bytes(2) + head[12:] + datagram
    return struct.pack(">IHBB", 6 << 28, length, UDP, 64) + own.packed + server.packed + datagram
