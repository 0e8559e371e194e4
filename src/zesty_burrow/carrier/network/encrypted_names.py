"""Asks a resolver that the gateway has announced (RFC 9464) by DNS over TLS (RFC 7858)."""

from __future__ import annotations

import asyncio
import os
import ssl
from collections.abc import Iterable, Sequence
from contextlib import suppress

from zesty_burrow.core.dns.encrypted_resolver import TRANSPORTS, EncryptedResolver
from zesty_burrow.core.dns.split_names import is_answer
from zesty_burrow.core.net import Address, Network

DOT = "dot"
PATIENCE = 3.0
"""Seconds for a connection, and for an answer."""
PAUSE = 30.0
"""Seconds in which one that has failed is not tried again."""
MAX_WAITING = 256


class TlsNameServer:
    """One resolver, which has to prove its name by a certificate under ``authorities`` (PEM) or the system's.

    ``state``: in words, whether it is used. A connection is kept as long as the resolver keeps it.
    """

    def __init__(self, resolver: EncryptedResolver, address: Address, authorities: Sequence[str]) -> None:
        self.resolver = resolver
        self.state = "not asked yet"
        self._address, self._port = str(address), resolver.port or TRANSPORTS[DOT][1]
        self._context = ssl.create_default_context()
        self._context.minimum_version = ssl.TLSVersion.TLSv1_2
        if authorities:
            self._context.load_verify_locations(cadata="\n".join(authorities))
        self._lock = asyncio.Lock()
        self._writer: asyncio.StreamWriter | None = None
        self._reading: asyncio.Task[None] | None = None
        self._waiting: dict[int, asyncio.Future[bytes]] = {}
        self._number = 0
        self._not_before = 0.0

    def close(self) -> None:
        if self._reading is not None:
            self._reading.cancel()
        self._drop(ConnectionError("closed"))

    async def ask(self, query: bytes) -> bytes | None:
        """The answer to a query, or None; ``state`` says why."""
        now = asyncio.get_running_loop().time()
        if now < self._not_before or len(self._waiting) >= MAX_WAITING:
            return None
        try:
            async with asyncio.timeout(PATIENCE):
                answer = await self._ask(query)
            if not is_answer(answer, query):
                raise ConnectionError("it answers another question")
        except (OSError, EOFError, ValueError, TimeoutError) as problem:
            why = _reason(problem)
            self.state, self._not_before = f"not used: {why}", now + PAUSE
            self._drop(ConnectionError(why))
            return None
        self.state = "in use"
        return answer

    async def _ask(self, query: bytes) -> bytes:
        async with self._lock:
            if self._writer is None:
                reader, self._writer = await asyncio.open_connection(
                    self._address, self._port, ssl=self._context, server_hostname=self.resolver.name
                )
                self._reading = asyncio.get_running_loop().create_task(self._read(reader))
            writer = self._writer
        # Answers come in any order (RFC 7766 §6.2.1.1): each question has a number that no other has.
        while (number := (self._number + 1) & 0xFFFF) in self._waiting:
            self._number = number
        self._number = number
        answer: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._waiting[number] = answer
        try:
            writer.write(len(query).to_bytes(2) + number.to_bytes(2) + query[2:])
            await writer.drain()
            return query[:2] + (await answer)[2:]
        finally:
            self._waiting.pop(number, None)

    async def _read(self, reader: asyncio.StreamReader) -> None:
        problem: Exception = EOFError("the resolver has closed the connection")
        try:
            while True:
                data = await reader.readexactly(int.from_bytes(await reader.readexactly(2)))
                waiting = self._waiting.get(int.from_bytes(data[:2]))
                if waiting is not None and not waiting.done():
                    waiting.set_result(data)
        except EOFError:
            pass
        except (OSError, ValueError) as lost:
            problem = lost
        self._drop(problem)

    def _drop(self, problem: Exception) -> None:
        """The connection is gone; those that wait for answers get the reason."""
        if self._writer is not None:
            with suppress(RuntimeError):  # the loop has ended
                self._writer.close()
            self._writer = None
        for waiting in self._waiting.values():
            if not waiting.done():
                waiting.set_exception(problem)


def _reason(problem: Exception) -> str:
    if isinstance(problem, ssl.SSLError):
        return getattr(problem, "verify_message", "") or str(problem.reason or problem)
    if isinstance(problem, OSError) and problem.errno:
        return os.strerror(problem.errno)
    return str(problem) or f"no answer in {PATIENCE:g} s"


def by_tls(
    announced: Iterable[EncryptedResolver], carried: Iterable[Network]
) -> tuple[EncryptedResolver, Address] | None:
    """The first that speaks DNS over TLS, and an address of it that the tunnel carries packets to."""
    inside = list(carried)
    for resolver in announced:
        if DOT in resolver.transports:
            for address in resolver.addresses:
                if any(address in network for network in inside):
                    return resolver, address
    return None
