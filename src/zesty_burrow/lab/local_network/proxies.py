"""The internet provider's proxies, HTTP CONNECT and SOCKS 5: a way out where there is no other."""

from __future__ import annotations

import asyncio
import base64
import ipaddress
from collections.abc import Callable
from contextlib import suppress

HTTP_PORT, SOCKS_PORT = 3128, 1080
ACCOUNT, PASSWORD = "cottage", "made-up-for-the-proxy"
SECONDS, MAX_HEAD = 10.0, 8192
Faults = Callable[[], frozenset[str]]


class Proxies:
    """Both, at one address. ``faults``: those in force: ``proxy-refuses``, ``proxy-dies``, ``proxy-sign-in``,
    ``proxy-no-datagrams``.

    ``opened``: connections so far; ``relayed``: how often somebody wanted datagrams passed on.
    """

    def __init__(self, faults: Faults) -> None:
        self.opened = self.relayed = 0
        self._faults = faults
        self._servers: list[asyncio.Server] = []
        self._open: set[asyncio.StreamWriter] = set()

    async def start(self, addresses: tuple[str, ...]) -> None:
        for address in addresses:
            self._servers.append(await asyncio.start_server(self._on_http, address, HTTP_PORT))
            self._servers.append(await asyncio.start_server(self._on_socks, address, SOCKS_PORT))

    def drop_all(self) -> None:
        """Every connection ends."""
        for writer in list(self._open):
            writer.transport.abort()

    async def _on_http(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, TimeoutError, ValueError):
            async with asyncio.timeout(SECONDS):
                head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
            first, *lines = head.split("\r\n")
            method, target, _ = first.split(" ")
            headers = {name.lower(): value.strip() for name, _, value in (line.partition(":") for line in lines)}
            expected = "Basic " + base64.b64encode(f"{ACCOUNT}:{PASSWORD}".encode()).decode()
            if "proxy-sign-in" in self._faults() and headers.get("proxy-authorization") != expected:
                writer.write(b"HTTP/1.1 407 Proxy Authentication Required\r\nProxy-Authenticate: Basic realm=x\r\n\r\n")
            elif method != "CONNECT" or "proxy-refuses" in self._faults():
                writer.write(b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\n\r\n")
            else:
                host, _, port = target.rpartition(":")
                if (there := await _connect(host.strip("[]"), int(port))) is not None:
                    writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
                    await self._pass_on(reader, writer, *there)
                    return
                writer.write(b"HTTP/1.1 502 Bad Gateway\r\n\r\n")
        await _finish(writer)

    async def _on_socks(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, asyncio.IncompleteReadError, TimeoutError, ValueError):
            async with asyncio.timeout(SECONDS):
                _, count = await reader.readexactly(2)
                ways = await reader.readexactly(count)
                wanted = 2 if "proxy-sign-in" in self._faults() else 0
                writer.write(bytes([5, wanted if wanted in ways else 0xFF]))
                if wanted and not await self._is_let_in(reader, writer):
                    await _finish(writer)
                    return
                _, command, _, kind = await reader.readexactly(4)
                octets = await reader.readexactly({1: 4, 4: 16}[kind])
                port = int.from_bytes(await reader.readexactly(2))
            barred = not self._faults().isdisjoint({"proxy-refuses", "proxy-no-datagrams"})
            if command == 3 and not barred:
                await self._pass_datagrams_on(reader, writer)
                return
            there = None
            if command == 1 and "proxy-refuses" not in self._faults():
                there = await _connect(str(ipaddress.ip_address(octets)), port)
            refused = 7 if command != 1 else 5
            reply = 0 if there else 2 if "proxy-refuses" in self._faults() else refused
            writer.write(bytes([5, reply, 0, 1]) + bytes(6))
            if there is not None:
                await self._pass_on(reader, writer, *there)
                return
        await _finish(writer)

    async def _is_let_in(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> bool:
        """RFC 1929."""
        _, size = await reader.readexactly(2)
        name = await reader.readexactly(size)
        password = await reader.readexactly((await reader.readexactly(1))[0])
        good = (name.decode(), password.decode()) == (ACCOUNT, PASSWORD)
        writer.write(bytes([1, 0 if good else 1]))
        return good

    async def _pass_datagrams_on(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """RFC 1928 §7: for as long as the connection lasts."""
        relay = _Relay(writer.get_extra_info("peername")[0])
        try:
            port = await relay.start(writer.get_extra_info("sockname")[0])
            # The address is left out: it is the one that was asked.
            writer.write(bytes([5, 0, 0, 1]) + bytes(4) + port.to_bytes(2))
            self.relayed += 1
            self._open.add(writer)
            await reader.read()
        finally:
            self._open.discard(writer)
            relay.close()
            await _finish(writer)

    async def _pass_on(
        self,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        other_reader: asyncio.StreamReader,
        other_writer: asyncio.StreamWriter,
    ) -> None:
        self.opened += 1
        self._open |= {writer, other_writer}
        try:
            await asyncio.gather(_copy(reader, other_writer), _copy(other_reader, writer))
        finally:
            self._open -= {writer, other_writer}
            for one in (writer, other_writer):
                await _finish(one)


class _Outside(asyncio.DatagramProtocol):
    """``take``: what comes from outside, and from where."""

    def __init__(self, take: Callable[[bytes, tuple[str, int]], None]) -> None:
        self._take = take

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        self._take(data, addr)


class _Relay(asyncio.DatagramProtocol):
    """Passes datagrams of one host on, and what comes back; each has who it is for, or from, in front."""

    def __init__(self, client: str) -> None:
        self._client: tuple[str, int] | None = None
        self._host = client
        self._transports: dict[int, asyncio.DatagramTransport] = {}

    async def start(self, address: str) -> int:
        """The port where the client's datagrams are taken."""
        loop = asyncio.get_running_loop()
        inside, _ = await loop.create_datagram_endpoint(lambda: self, (address, 0))
        self._transports[0] = inside
        for version, unbound in ((4, "0.0.0.0"), (6, "::")):  # noqa: S104 - the way out decides the address.
            outside, _ = await loop.create_datagram_endpoint(lambda: _Outside(self._answered), (unbound, 0))
            self._transports[version] = outside
        return int(inside.get_extra_info("sockname")[1])

    def close(self) -> None:
        """Nothing is passed on any more."""
        for transport in self._transports.values():
            transport.close()

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """Of the client: reserved (2), number of a piece (1), kind of address (1), address, port."""
        size = {1: 4, 4: 16}.get(data[3]) if len(data) > 3 and not data[2] else None
        if addr[0] != self._host or size is None or len(data) < 4 + size + 2:
            return
        self._client = addr
        to = ipaddress.ip_address(data[4 : 4 + size])
        port = int.from_bytes(data[4 + size : 6 + size])
        self._transports[to.version].sendto(data[6 + size :], (str(to), port))

    def _answered(self, data: bytes, source: tuple[str, int]) -> None:
        address = ipaddress.ip_address(source[0])
        head = bytes([0, 0, 0, 1 if address.version == 4 else 4]) + address.packed + source[1].to_bytes(2)
        if self._client is not None:
            self._transports[0].sendto(head + data, self._client)


async def _connect(host: str, port: int) -> tuple[asyncio.StreamReader, asyncio.StreamWriter] | None:
    with suppress(OSError, TimeoutError):
        async with asyncio.timeout(SECONDS):
            return await asyncio.open_connection(host, port)
    return None


async def _copy(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
    with suppress(OSError):
        while data := await reader.read(1 << 16):
            writer.write(data)
            await writer.drain()
    await _finish(writer)


async def _finish(writer: asyncio.StreamWriter) -> None:
    with suppress(OSError):
        await writer.drain()
        writer.close()
