"""Whose ICMP echo requests arrive here (RFC 792, RFC 4443 §4.1): the kernel answers them, this only notes the source.

A caller puts a token into the request and asks for it afterwards: the address that the outside sees of ICMP.
"""

from __future__ import annotations

import asyncio
import socket
import struct
from collections import OrderedDict
from contextlib import suppress

from zesty_burrow.core.outside.echo import read_echo_request_untrusted
from zesty_burrow.observe.observatory.http_server import plain

MAX_TOKENS, MAX_SOURCES = 4096, 8
AT_ONCE = 64
_ICMP_FILTER, _SOL_RAW, _ICMPV6_FILTER = 1, 255, 1
_ECHO, _ECHO_V6 = 8, 128


class EchoMemory:
    """By token, the sources: bounded, the oldest are forgotten first."""

    def __init__(self) -> None:
        self._sources: OrderedDict[str, list[str]] = OrderedDict()

    def remember(self, token: str, source: str) -> None:
        known = self._sources.setdefault(token, [])
        if source not in known and len(known) < MAX_SOURCES:
            known.append(source)
        while len(self._sources) > MAX_TOKENS:
            self._sources.popitem(last=False)

    def recall(self, token: str) -> list[str]:
        return list(self._sources.get(token, ()))


class EchoListener:
    """Raw sockets on the observatory's addresses; needs CAP_NET_RAW. ``start`` says whether there is any."""

    def __init__(self, memory: EchoMemory) -> None:
        self._memory = memory
        self._sockets: list[socket.socket] = []

    def start(self, addresses: tuple[str, ...]) -> bool:
        """Listen; False where this process may not."""
        loop = asyncio.get_running_loop()
        for address in addresses:
            try:
                channel = _raw(address)
            except OSError:
                continue
            self._sockets.append(channel)
            loop.add_reader(channel, self._arrived, channel)
        return bool(self._sockets)

    def stop(self) -> None:
        for channel in self._sockets:
            asyncio.get_running_loop().remove_reader(channel)
            channel.close()
        self._sockets.clear()

    def _arrived(self, channel: socket.socket) -> None:
        with suppress(OSError):
            for _ in range(AT_ONCE):
                data, source = channel.recvfrom(2048, socket.MSG_DONTWAIT)
                token = read_echo_request_untrusted(data, 4 if channel.family == socket.AF_INET else 6)
                if token:
                    self._memory.remember(token, plain(str(source[0])))


def _raw(address: str) -> socket.socket:
    """A socket that the kernel gives echo requests alone, those of one address."""
    version6 = ":" in address
    family, protocol = (socket.AF_INET6, socket.IPPROTO_ICMPV6) if version6 else (socket.AF_INET, socket.IPPROTO_ICMP)
    channel = socket.socket(family, socket.SOCK_RAW | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC, protocol)
    try:
        if version6:
            # What is set is not let through, one bit for each type (RFC 3542 §3.2).
            words = [0xFFFFFFFF] * 8
            words[_ECHO_V6 // 32] &= ~(1 << _ECHO_V6 % 32)
            channel.setsockopt(socket.IPPROTO_ICMPV6, _ICMPV6_FILTER, struct.pack("=8I", *words))
        else:
            channel.setsockopt(_SOL_RAW, _ICMP_FILTER, struct.pack("=I", 0xFFFFFFFF & ~(1 << _ECHO)))
        channel.bind((address, 0))
    except OSError:
        channel.close()
        raise
    return channel
