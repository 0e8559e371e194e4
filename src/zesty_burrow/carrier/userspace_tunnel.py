"""Questions through a tunnel that has no device: UDP datagrams of our own, sealed and opened here."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from zesty_burrow.carrier.data_path.tunnel import PathTunnel, Tunnel
from zesty_burrow.carrier.ports.udp_port import Burst
from zesty_burrow.core.net import Address
from zesty_burrow.core.packets.udp import UdpDatagram, build_udp, parse_udp_untrusted
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.session import Up

T = TypeVar("T")
WAITS = (1.0, 2.0, 4.0)
"""Seconds to wait for an answer before each retry; after the last one the question is given up."""


class UserspaceTunnel:
    """Takes the place of a data path: asks by a session's channel, through its socket."""

    def __init__(self, tunnel: PathTunnel, granted: Up) -> None:
        self.granted = granted
        self.rejected = 0
        self._tunnel = tunnel
        self._loop = asyncio.get_running_loop()
        self._waiting: dict[int, Callable[[UdpDatagram], None]] = {}
        self._towards: dict[Address, Address | None] = {}

    @property
    def name_servers(self) -> tuple[Address, ...]:
        """Those that the gateway handed out."""
        return self.granted.network.name_servers

    def own_address(self, towards: Address) -> Address | None:
        """Our inner address of the same family, where the gateway carries packets there; else None."""
        if towards not in self._towards:
            carried = any(towards.packed in entry for entry in self.granted.remote)
            own = (
                address.ip
                for address in self.granted.network.addresses
                if carried and address.version == towards.version
            )
            self._towards[towards] = next(own, None)
        return self._towards[towards]

    def inbound(self, burst: Burst) -> tuple[None, list[bytes]]:
        """Take the channel's datagrams of a burst; what nobody waits for is dropped, what is the session's is left."""
        others = []
        for data in burst.datagrams():
            if data[:4] in self._tunnel.labels:
                self._receive(data)
            else:
                others.append(data)
        return None, others

    @property
    def takes_no_datagrams(self) -> bool:
        """Whether all datagrams are the session's."""
        return not self._tunnel.labels

    def go_on(self) -> None:
        """Take the packets that have come in the session's own messages."""
        if not isinstance(self._tunnel, Tunnel):
            for packet in self._tunnel.channel.take():
                self._take(packet)

    def _receive(self, data: bytes) -> None:
        if not isinstance(self._tunnel, Tunnel):
            return
        try:
            packet = self._tunnel.channel.open(data, self._loop.time())
        except Malformed:
            self.rejected += 1
            return
        self._take(packet)

    def _take(self, packet: bytes) -> None:
        try:
            datagram = parse_udp_untrusted(packet) if packet else None
        except Malformed:
            self.rejected += 1
            return
        if datagram is not None and (taker := self._waiting.get(datagram.destination_port)) is not None:
            taker(datagram)

    def _send(self, packet: bytes) -> None:
        with suppress(OSError):
            self._tunnel.send(packet, self._loop.time(), 0)
            if not isinstance(self._tunnel, Tunnel):
                self._tunnel.flush()

    async def ask(self, to: Address, port: int, question: bytes, read: Callable[[bytes], T]) -> T | None:
        """Ask until an answer comes that ``read`` takes (it raises :class:`Malformed` for others); None for silence."""
        own = self.own_address(to)
        if own is None:
            return None
        loop = asyncio.get_running_loop()
        answer: asyncio.Future[T | None] = loop.create_future()
        waits = iter(WAITS)
        timer: asyncio.TimerHandle | None = None

        def take(datagram: UdpDatagram) -> None:
            if (datagram.source, datagram.source_port, datagram.destination) != (to, port, own) or answer.done():
                return
            try:
                answer.set_result(read(datagram.payload))
            except Malformed:
                self.rejected += 1

        def ask_once() -> asyncio.TimerHandle | None:
            wait = next(waits, None)
            if wait is None:
                answer.set_result(None)
                return None
            self._send(packet)
            return loop.call_later(wait, ask_again)

        def ask_again() -> None:
            nonlocal timer
            if not answer.done():
                timer = ask_once()

        # RFC 5452 §4.5: a port that a stranger cannot guess.
        while (own_port := 1024 + int.from_bytes(os.urandom(2)) % 64512) in self._waiting:
            pass
        packet = build_udp(UdpDatagram(own, own_port, to, port, question))
        self._waiting[own_port] = take
        timer = ask_once()
        try:
            return await answer
        finally:
            del self._waiting[own_port]
            if timer is not None:
                timer.cancel()
