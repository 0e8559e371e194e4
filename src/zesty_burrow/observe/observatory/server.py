"""The observatory: tells callers the address they come from, and which resolvers asked for their one-time names.

An administrator runs it on their own server (``zesty observatory serve``); the lab runs the same program.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import secrets
import socket
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, TextIO

from zesty_burrow.core.crypto.jws import public_text, sign
from zesty_burrow.core.dns.signing import ZoneSigner, parent_record
from zesty_burrow.core.dns.zone import Zone, answer
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.geofeed import AddressBook
from zesty_burrow.errors import MachineError
from zesty_burrow.observe.observatory.connections import Connections, source_of
from zesty_burrow.observe.observatory.echoes import EchoListener, EchoMemory
from zesty_burrow.observe.observatory.http_server import DEADLINE, HttpService, plain
from zesty_burrow.observe.observatory.memory import Memory
from zesty_burrow.observe.observatory.metrics import Metrics
from zesty_burrow.observe.observatory.signing import load_or_make
from zesty_burrow.observe.observatory.tls import Certificate
from zesty_burrow.records import dataclass

MAX_TCP, MAX_TCP_EACH = 512, 16
GRACE = 5.0
"""Seconds that requests have to be answered in once the observatory is to stop."""
LOOK_AT_FILES = 30.0
"""Seconds between two looks at the certificate's files."""
BACKLOG = 1024
CREDENTIAL_SECONDS = 120
"""For which a credential for STUN holds."""
FAMILY_NAMES = {4: "ipv4", 6: "ipv6"}
"""Labels under the zone that have addresses of one family alone."""


@dataclass(frozen=True, slots=True)
class ObservatoryConfig:
    """``addresses``: where to listen; ports are the standard ones unless they are changed.

    ``certificate``: of HTTPS, with the file of its key. ``metrics``: address and port where metrics are told.
    ``requests_a_second``: of each source. ``access_log``: a line of JSON for each request. ``signing_key``:
    a file; a key is made if the file does not exist. ``zone_key``: the same for the zone's signatures (DNSSEC).
    """

    addresses: tuple[str, ...]
    zone: Zone
    book: AddressBook
    http_port: int = 80
    dns_port: int = 53
    stun_port: int = stun.PORT
    https_port: int = 443
    certificate: tuple[Path, Path] | None = None
    metrics: tuple[str, int] | None = None
    requests_a_second: float = 50.0
    access_log: TextIO | None = None
    signing_key: Path | None = None
    zone_key: Path | None = None


def zone_of(origin: str, addresses: tuple[str, ...], name_server: str = "") -> Zone:
    """An observatory's zone: itself; itself by one family alone, for callers that cannot choose; one-time names."""
    names = {origin: addresses}
    for version, name in FAMILY_NAMES.items():
        own = tuple(address for address in addresses if (":" in address) == (version == 6))
        if own:
            names[f"{name}.{origin}"] = own
    return Zone(origin, names, f"probe.{origin}", addresses, name_server)


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


class StunPasswords:
    """Credentials for one look each: the password follows from the username and a secret of this process, so that
    nothing has to be remembered.
    """

    def __init__(self) -> None:
        self._secret = secrets.token_bytes(32)

    def fresh(self) -> dict[str, str]:
        username = f"{int(time.time()) + CREDENTIAL_SECONDS}-{secrets.token_hex(8)}"
        return {"username": username, "password": self._password(username)}

    def of(self, username: str) -> str:
        """Empty for a username that is not ours, or too old."""
        until = username.partition("-")[0]
        if not until.isascii() or not until.isdigit() or len(until) > 12 or int(until) < time.time():
            return ""
        return self._password(username)

    def _password(self, username: str) -> str:
        return hmac.digest(self._secret, username.encode("utf-8", "replace"), hashlib.sha256).hex()


class _Datagrams(asyncio.DatagramProtocol):
    """Answers each datagram with what ``respond`` gives."""

    def __init__(self, respond: Callable[[bytes, tuple[str, int]], bytes | None]) -> None:
        self._respond = respond
        # Not every event loop's transport derives from asyncio.DatagramTransport.
        self._transport: Any = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        response = self._respond(data, (addr[0], addr[1]))
        if response is not None and self._transport is not None:
            self._transport.sendto(response, addr)


class Observatory:
    """``start``, then serve for as long as the event loop runs, then ``stop``."""

    def __init__(self, config: ObservatoryConfig) -> None:
        self.config = config
        self.memory, self.echoes = Memory(), EchoMemory()
        self.metrics = Metrics()
        told: dict[str, Any] = {"probe_zone": config.zone.probe, "stun_port": config.stun_port}
        told |= {"http_port": config.http_port, "inbound": True}
        told["probe_answers"] = list(config.zone.probe_addresses)
        for version, name in FAMILY_NAMES.items():
            told |= {f"ipv{version}_host": host for host in config.zone.addresses if host.startswith(f"{name}.")}
        key = load_or_make(config.signing_key) if config.signing_key else None
        signer = None
        self.public_key = ""
        if key is not None:
            self.public_key = told["public_key"] = public_text(key.public_key())
            signer = partial(sign, key)
        self._complete: dict[str, Any] = {}
        self.parent_record = ""
        if config.zone_key is not None:
            zone_key = load_or_make(config.zone_key)
            self._complete["complete"] = ZoneSigner(zone_key, config.zone.origin, time.time).complete
            self.parent_record = parent_record(config.zone.origin, zone_key.public_key())
            told |= {"signed_zone": config.zone.origin}
        self._passwords = StunPasswords()
        self._http = HttpService(
            told, config.book, self.memory, self.metrics, config.requests_a_second, config.access_log, signer,
            self._passwords.fresh, self.echoes.recall,
        )  # fmt: skip
        self._told = told
        self._echo_listener = EchoListener(self.echoes)
        self._certificate = Certificate(*config.certificate) if config.certificate else None
        self._servers: list[asyncio.Server] = []
        self._transports: list[asyncio.BaseTransport] = []
        self._tcp = Connections(MAX_TCP, MAX_TCP_EACH)
        self._reloading: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Listen on all addresses. Raises :class:`MachineError` where one cannot be listened on."""
        await self._http.start()
        try:
            for address in self.config.addresses:
                await self._listen(address)
            self._told["echo"] = self._echo_listener.start(self.config.addresses)
            if self.config.metrics is not None:
                await self._serve(self._http.metrics_factory, *self.config.metrics)
        except OSError as problem:
            await self.stop(0.0)
            raise MachineError(
                "the observatory cannot listen",
                why=problem.strerror or str(problem),
                next_step="Ports 53, 80 and 443 need root, or choose others: --dns-port, --http-port, --https-port.",
            ) from None
        if self._certificate is not None:
            self._reloading = asyncio.get_running_loop().create_task(self._look_at_files(self._certificate))

    async def _serve(self, factory: Callable[[], asyncio.Protocol], address: str, port: int, tls: Any = None) -> None:
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        more = {"ssl": tls, "ssl_handshake_timeout": DEADLINE} if tls is not None else {}
        server = await asyncio.get_running_loop().create_server(
            factory, address, port, family=family, backlog=BACKLOG, reuse_address=True, **more
        )
        self._servers.append(server)

    async def _listen(self, address: str) -> None:
        loop, config = asyncio.get_running_loop(), self.config
        await self._serve(self._http.factory, address, config.http_port)
        if self._certificate is not None:
            await self._serve(self._http.factory, address, config.https_port, self._certificate.context)
        for port, respond in ((config.dns_port, self._name_asked), (config.stun_port, self._binding)):
            transport, _ = await loop.create_datagram_endpoint(
                lambda respond=respond: _Datagrams(respond),  # type: ignore[misc]
                local_addr=(address, port),
            )
            self._transports.append(transport)
        self._servers.append(await asyncio.start_server(self._tcp_asked, address, config.dns_port, backlog=BACKLOG))

    async def _look_at_files(self, certificate: Certificate) -> None:
        while True:
            await asyncio.sleep(LOOK_AT_FILES)
            certificate.reload()

    def reload(self) -> None:
        """Look at the certificate's files now."""
        if self._certificate is not None:
            self._certificate.reload()

    async def stop(self, grace: float = GRACE) -> None:
        """Take nobody new, answer what was asked, then close what is left."""
        if self._reloading is not None:
            self._reloading.cancel()
        for server in self._servers:
            server.close()
        self._echo_listener.stop()
        await self._http.stop(grace)
        for transport in self._transports:
            transport.close()

    # DNS and STUN.

    def _name_asked(self, data: bytes, source: tuple[str, int]) -> bytes | None:
        return self._dns(data, source[0], over_udp=True)

    def _dns(self, data: bytes, source: str, *, over_udp: bool) -> bytes | None:
        response, question = answer(data, self.config.zone, over_udp=over_udp, **self._complete)
        transport = "UDP" if over_udp else "TCP"
        self.metrics.questions[transport] += 1
        if question is not None:
            self.memory.remember(question, plain(source), transport, _now())
        return response

    def _binding(self, data: bytes, source: tuple[str, int]) -> bytes | None:
        self.metrics.bindings += 1
        return stun.binding_response(data, source, self._passwords.of)

    async def _tcp_asked(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """RFC 7766: messages with a length in front; several on one connection, each within the deadline."""
        address = writer.get_extra_info("peername")[0]
        source = source_of(address)
        self._tcp.admit(source, writer, writer.transport.abort)
        try:
            with suppress(OSError, asyncio.IncompleteReadError, asyncio.TimeoutError):
                while True:
                    async with asyncio.timeout(DEADLINE):
                        size = int.from_bytes(await reader.readexactly(2))
                        response = self._dns(await reader.readexactly(size), address, over_udp=False)
                        if response is None:
                            break
                        writer.write(len(response).to_bytes(2) + response)
                        await writer.drain()
                    self._tcp.used(source, writer)
        finally:
            self._tcp.release(source, writer)
            writer.close()
