"""A resolver of the lab: knows the lab's names, and asks the observatory's own server for the test zone."""

from __future__ import annotations

import asyncio
import socket
import ssl
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import dns.exception
import dns.message
import dns.name

from zesty_burrow.core.dns.question import read_question_untrusted
from zesty_burrow.core.dns.zone import Zone, answer
from zesty_burrow.lab import story
from zesty_burrow.lab.signatures import Signatures

TIMEOUT = 3.0
MAX_WAITING = 512


class Resolver:
    """Listens on ``addresses``; asks onward from the first, or from ``outside``; ``own``: names only it knows.
    ``zone_key``: the file of the observatory's zone key; ``checks_signatures``: answers have to be signed by it.
    """

    def __init__(
        self,
        addresses: tuple[str, ...],
        own: dict[str, tuple[str, ...]] | None = None,
        outside: str = "",
        *,
        zone_key: Path | None = None,
        checks_signatures: bool = False,
    ) -> None:
        self._addresses = addresses
        self._outside = outside or addresses[0]
        self._zone = Zone("example", {**story.static_names(), **(own or {})}, name_server=f"ns.{story.DOMAIN}")
        self._probe = dns.name.from_text(story.PROBE_ZONE)
        self._signatures = Signatures(zone_key, self._ask_observatory) if zone_key else None
        self._checks_signatures = checks_signatures
        self._waiting = 0
        self._tasks: set[asyncio.Task[None]] = set()

    async def start(self, tls: ssl.SSLContext | None = None) -> None:
        """Answer over UDP and TCP, and over TLS where there is a context for it."""
        loop = asyncio.get_running_loop()
        for address in self._addresses:
            await loop.create_datagram_endpoint(lambda: _Endpoint(self._take), local_addr=(address, 53))
            await asyncio.start_server(self._take_stream, address, 53)
            if tls is not None:
                await asyncio.start_server(self._take_stream, address, 853, ssl=tls)

    def _take(self, data: bytes, reply: Callable[[bytes], None]) -> None:
        if self._waiting >= MAX_WAITING:
            return
        task = asyncio.get_running_loop().create_task(self._serve(data, reply))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _take_stream(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, asyncio.IncompleteReadError, asyncio.TimeoutError):
            while True:
                size = int.from_bytes(await asyncio.wait_for(reader.readexactly(2), TIMEOUT))
                data = await asyncio.wait_for(reader.readexactly(size), TIMEOUT)
                await self._serve(data, lambda out: writer.write(len(out).to_bytes(2) + out))
                await writer.drain()
        writer.close()

    async def _serve(self, data: bytes, reply: Callable[[bytes], None]) -> None:
        self._waiting += 1
        try:
            response = await self._respond(data)
            if response is not None:
                reply(response)
        finally:
            self._waiting -= 1

    async def _respond(self, data: bytes) -> bytes | None:
        if self._is_probe(data):
            if self._signatures is not None and self._checks_signatures:
                return await self._signatures.resolve(data)
            return await self._ask_observatory(data)
        of_parent = self._signatures.of_parent(data) if self._signatures is not None else None
        return of_parent or answer(data, self._zone, over_udp=True)[0]

    def _is_probe(self, data: bytes) -> bool:
        asked = read_question_untrusted(data)
        if asked is not None:
            return f".{asked[0]}".endswith("." + story.PROBE_ZONE)
        try:
            query = dns.message.from_wire(data[:4096])
        except (dns.exception.DNSException, ValueError):
            return False
        return len(query.question) == 1 and query.question[0].name.is_subdomain(self._probe)

    async def _ask_observatory(self, data: bytes) -> bytes | None:
        """Pass the question on, from an address of this resolver's own."""
        loop = asyncio.get_running_loop()
        with suppress(OSError, asyncio.TimeoutError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
            channel.setblocking(False)
            channel.bind((self._outside, 0))
            channel.connect((story.OBSERVATORY4, 53))
            await loop.sock_sendall(channel, data)
            return await asyncio.wait_for(loop.sock_recv(channel, 4096), TIMEOUT)
        return None


class _Endpoint(asyncio.DatagramProtocol):
    def __init__(self, take: Callable[[bytes, Callable[[bytes], None]], None]) -> None:
        self._take = take
        self._transport: Any = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        self._take(data, lambda out: self._transport.sendto(out, addr))
