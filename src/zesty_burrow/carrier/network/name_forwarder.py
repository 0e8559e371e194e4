"""Passes this machine's questions for names on: to the tunnels' name servers what is theirs, all others to the rest.

It listens on a loopback address of its own, for as long as a tunnel with names of its own is up. Answers are passed on
as they come, and nothing is kept.
"""

from __future__ import annotations

import asyncio
import logging
import socket
from collections.abc import Coroutine
from contextlib import suppress
from typing import Any

import dns.rcode

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.network.encrypted_names import TlsNameServer
from zesty_burrow.core.dns.split_names import HEADER, SplitNames, failure, is_answer, read_name_untrusted
from zesty_burrow.core.net import Address
from zesty_burrow.errors import MachineError, StateError
from zesty_burrow.host.names.names_record import NamesRecord
from zesty_burrow.host.plan import number_of

log = logging.getLogger(__name__)
PORT = 53
PATIENCE, TCP_PATIENCE = 2.0, 6.0
"""Seconds for one server's answer; and for the next question of a client's connection."""
MAX_SERVERS = 3
MAX_WAITING, MAX_STREAMS = 256, 64
"""Questions, and connections, at one time; more are not taken."""
MAX_MESSAGE, UDP_SAFE = 65535, 1232
RCODE = 0x0F
"""RFC 1035 §4.1.1: of the header's fourth octet; the seventh and eighth count the answers."""
MAX_FAILED, REMEMBERED = 1024, 30.0
"""Names that the world does not know, and the seconds for which that is remembered."""
Servers = tuple[Address, ...]


def forwarder_address(device: str) -> str:
    """The loopback address (RFC 1122 §3.2.1.3) of the forwarder of a tunnel device."""
    return f"127.23.106.{53 + number_of(device)}"


class NameForwarder:
    """``names``: what the tunnels ask for; it is read again whenever it has changed.

    ``encrypted``: who is asked first in the place of these ``servers``, by DNS over TLS.
    """

    def __init__(self, address: str, names: NamesRecord) -> None:
        self.address = address
        self._names = names
        self._known: tuple[int, int] = (0, 0)
        self._split: SplitNames[Servers] = SplitNames({}, ())
        self._suffixes: tuple[str, ...] = ()
        self._failed: dict[str, float] = {}
        self.servers: Servers = ()
        self.encrypted: TlsNameServer | None = None
        self._tasks: set[asyncio.Task[None]] = set()
        self._streams = 0
        self._loop = asyncio.get_running_loop()
        self._channel = _bound(socket.SOCK_DGRAM, address)
        try:
            self._listener = _bound(socket.SOCK_STREAM, address)
        except MachineError:
            self._channel.close()
            raise
        self._listener.listen(64)
        self._loop.add_reader(self._channel.fileno(), self._readable)
        self._begin(self._accept())

    def close(self) -> None:
        self._loop.remove_reader(self._channel.fileno())
        for task in self._tasks:
            task.cancel()
        if self.encrypted is not None:
            self.encrypted.close()
        self._channel.close()
        self._listener.close()

    def _begin(self, work: Coroutine[Any, Any, None]) -> None:
        task = self._loop.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    # Questions.

    def _readable(self) -> None:
        for _ in range(MAX_WAITING):
            try:
                data, client = self._channel.recvfrom(MAX_MESSAGE)
            except OSError:
                return
            if len(self._tasks) - self._streams < MAX_WAITING:
                self._begin(self._serve(data, client))

    async def _serve(self, query: bytes, client: tuple[str, int]) -> None:
        answer = await self._answer(query, stream=False)
        if answer is not None:
            with suppress(OSError):
                self._channel.sendto(answer, client)

    async def _accept(self) -> None:
        while True:
            channel, _ = await self._loop.sock_accept(self._listener)
            if self._streams < MAX_STREAMS:
                self._streams += 1
                self._begin(self._serve_stream(channel))
            else:
                channel.close()

    async def _serve_stream(self, channel: socket.socket) -> None:
        """RFC 7766: several questions may come by one connection."""
        reader, writer = await asyncio.open_connection(sock=channel)
        try:
            with suppress(OSError, EOFError, TimeoutError):
                while True:
                    async with asyncio.timeout(TCP_PATIENCE):
                        query = await _read_message(reader)
                    answer = await self._answer(query, stream=True)
                    if answer is None:
                        return
                    writer.write(len(answer).to_bytes(2) + answer)
                    await writer.drain()
        finally:
            self._streams -= 1
            writer.close()

    async def _answer(self, query: bytes, *, stream: bool) -> bytes | None:
        name = read_name_untrusted(query)
        if name is None:
            return None
        servers = self._servers_for(name)
        if servers == self.servers and self._has_failed_outside(name):
            # The search list has put the office's suffix behind a name of the world's.
            return failure(query, dns.rcode.NXDOMAIN)
        if self.encrypted is not None and servers == self.servers:
            answer = await self.encrypted.ask(query)
            if answer is not None and (stream or len(answer) <= UDP_SAFE):
                return answer
        for server in servers[:MAX_SERVERS]:
            with suppress(OSError, EOFError, TimeoutError):
                async with asyncio.timeout(PATIENCE):
                    answer = await (_ask_stream if stream else _ask)(query, server)
                if answer is not None:
                    self._note_outcome(name, servers, answer)
                    return answer
        self._note_outcome(name, servers, b"")
        return failure(query)

    def _note_outcome(self, name: str, servers: Servers, answer: bytes) -> None:
        """Remember for a moment which names with dots the world does not know."""
        is_known = len(answer) >= HEADER and not answer[3] & RCODE and any(answer[6:8])
        if servers == self.servers or "." not in name or is_known:
            return
        self._failed[name] = self._loop.time()
        while len(self._failed) > MAX_FAILED:
            del self._failed[next(iter(self._failed))]

    def _has_failed_outside(self, name: str) -> bool:
        """Whether it is such a name with a suffix of the search list behind it."""
        for suffix in self._suffixes:
            stem = name.removesuffix(f".{suffix}")
            if stem != name and self._loop.time() - self._failed.get(stem, float("-inf")) < REMEMBERED:
                return True
        return False

    def _servers_for(self, name: str) -> Servers:
        with suppress(OSError, StateError):
            if (changed := self._names.changed()) != self._known:
                self._known, self._split = changed, self._read()
        return self._split.choose(name)

    def _read(self) -> SplitNames[Servers]:
        layers = self._names.layers().values()
        self._suffixes = tuple(suffix for layer in layers for suffix in layer.suffixes)
        whole = [layer.servers for layer in layers if not layer.forwarder]
        zones = {zone: layer.servers for layer in layers if layer.forwarder for zone in (*layer.suffixes, *layer.zones)}
        other = whole[-1] if whole else tuple(one for one in self._names.before()[0] if str(one) != self.address)
        note(log, logging.DEBUG, "names", zones=", ".join(zones), others=", ".join(map(str, other)))
        return SplitNames(zones, other)


def _bound(kind: int, address: str) -> socket.socket:
    channel = socket.socket(socket.AF_INET, kind | socket.SOCK_CLOEXEC | socket.SOCK_NONBLOCK)
    try:
        channel.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        channel.bind((address, PORT))
    except OSError as problem:
        channel.close()
        raise MachineError(
            f"questions for names cannot be taken at {address} port {PORT}",
            why=str(problem.strerror),
            next_step="End the program that listens there, or give the profile no suffixes.",
            slug="forwarder-address",
        ) from None
    return channel


async def _ask(query: bytes, server: Address) -> bytes | None:
    """Over UDP, from a port of the kernel's choice; what does not answer this question is passed over (RFC 5452)."""
    loop, family = asyncio.get_running_loop(), socket.AF_INET if server.version == 4 else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM | socket.SOCK_CLOEXEC | socket.SOCK_NONBLOCK) as channel:
        channel.connect((str(server), PORT))
        await loop.sock_sendall(channel, query)
        while True:
            data = await loop.sock_recv(channel, MAX_MESSAGE)
            if is_answer(data, query):
                return data


async def _ask_stream(query: bytes, server: Address) -> bytes | None:
    reader, writer = await asyncio.open_connection(str(server), PORT)
    try:
        writer.write(len(query).to_bytes(2) + query)
        data = await _read_message(reader)
        return data if is_answer(data, query) else None
    finally:
        writer.close()


async def _read_message(reader: asyncio.StreamReader) -> bytes:
    """RFC 1035 §4.2.2: two octets of length first. ``EOFError`` at the end."""
    return await reader.readexactly(int.from_bytes(await reader.readexactly(2)))
