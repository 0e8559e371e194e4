"""The observatory: tells callers the address they come from, and which resolvers asked for their one-time names.

An administrator runs it on their own server (``zesty observatory serve``); the lab runs the same program.
"""

from __future__ import annotations

import asyncio
import csv
import io
import ipaddress
import json
import socket
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

from zesty_burrow.core import stun
from zesty_burrow.core.dns.zone import Zone, answer
from zesty_burrow.core.geofeed import AddressBook
from zesty_burrow.errors import MachineError
from zesty_burrow.observe.memory import Memory

MAX_THREADS = 64
MAX_TCP = 64
TIMEOUT = 10.0


@dataclass(frozen=True, slots=True)
class ObservatoryConfig:
    """``addresses``: where to listen; ports are the standard ones unless they are changed."""

    addresses: tuple[str, ...]
    zone: Zone
    book: AddressBook
    http_port: int = 80
    dns_port: int = 53
    stun_port: int = stun.PORT


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def _plain(address: str) -> str:
    """An address as text, without zone and IPv4 mapping."""
    parsed = ipaddress.ip_address(address.partition("%")[0])
    return str(getattr(parsed, "ipv4_mapped", None) or parsed)


class _Handler(BaseHTTPRequestHandler):
    """GET /v1, /v1/address, /v1/address/ADDRESS and /v1/names/TOKEN."""

    server: _HttpServer
    protocol_version = "HTTP/1.1"
    server_version = "observatory"
    sys_version = ""
    timeout = TIMEOUT

    def do_GET(self) -> None:
        parts = urlsplit(self.path[:2048])
        wants_csv = parse_qs(parts.query).get("format") == ["csv"] or self.headers.get("Accept") == "text/csv"
        config = self.server.config
        if parts.path == "/v1":
            self._answer(
                {
                    "format": 1,
                    "probe_zone": config.zone.probe,
                    "stun_port": config.stun_port,
                }
            )
        elif parts.path == "/v1/address":
            self._answer({"format": 1, **describe(config.book, self.client_address[0])}, wants_csv)
        elif parts.path.startswith("/v1/address/"):
            # Of another address than the caller's: where an exit is, that was seen from inside a tunnel.
            try:
                asked = str(ipaddress.ip_address(parts.path.removeprefix("/v1/address/")))
            except ValueError:
                self._answer({"format": 1, "error": "an IPv4 or IPv6 address is needed"}, status=400)
                return
            self._answer({"format": 1, **describe(config.book, asked)}, wants_csv)
        elif parts.path.startswith("/v1/names/"):
            token = parts.path.removeprefix("/v1/names/").lower()
            rows = [
                {**asdict(entry), **{k: v for k, v in describe(config.book, entry.resolver).items() if k != "address"}}
                for entry in self.server.memory.recall(token)
            ]
            self._answer({"format": 1, "token": token[:64], "questions": rows})
        else:
            self._answer(
                {"format": 1, "error": "there is /v1, /v1/address, /v1/address/ADDRESS and /v1/names/TOKEN"}, status=404
            )

    def _answer(self, document: dict[str, Any], as_csv: bool = False, status: int = 200) -> None:
        if as_csv:
            text = io.StringIO()
            fields = [key for key in document if key != "format"]
            writer = csv.DictWriter(text, fields, extrasaction="ignore")
            writer.writeheader()
            writer.writerow(document)
            body, kind = text.getvalue().encode(), "text/csv; charset=utf-8"
        else:
            body, kind = json.dumps(document).encode() + b"\n", "application/json"
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.send_header("Cache-Control", "no-store")
        self.send_header("Connection", "close")
        self.end_headers()
        self.wfile.write(body)
        self.close_connection = True

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002
        """The observatory keeps no log of its callers."""


class _HttpServer(ThreadingHTTPServer):
    daemon_threads = True
    request_queue_size = 64

    def __init__(self, address: str, config: ObservatoryConfig, memory: Memory) -> None:
        self.address_family = socket.AF_INET6 if ":" in address else socket.AF_INET
        self.config, self.memory = config, memory
        self._places = threading.BoundedSemaphore(MAX_THREADS)
        super().__init__((address, config.http_port), _Handler)

    def server_bind(self) -> None:
        if self.address_family == socket.AF_INET6:
            self.socket.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        self.socket.bind(self.server_address)
        self.server_address = self.socket.getsockname()
        self.server_name, self.server_port = "observatory", self.server_address[1]

    def process_request(self, request: Any, client_address: Any) -> None:
        if not self._places.acquire(timeout=TIMEOUT):
            self.shutdown_request(request)
            return
        super().process_request(request, client_address)

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        try:
            super().process_request_thread(request, client_address)
        finally:
            self._places.release()

    def handle_error(self, request: Any, client_address: Any) -> None:
        """A caller who goes away in mid-sentence is nothing to report."""


def describe(book: AddressBook, address: str) -> dict[str, str]:
    """An address with operator and place, as the interface tells it."""
    plain = _plain(address)
    place = book.place(plain)
    return {
        "address": plain,
        "operator": book.operator(plain),
        "country": place.country if place else "",
        "region": place.region if place else "",
        "city": place.city if place else "",
    }


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
        self.memory = Memory()
        self._http: list[_HttpServer] = []
        self._closers: list[Callable[[], None]] = []
        self._tcp = asyncio.Semaphore(MAX_TCP)

    async def start(self) -> None:
        """Listen on all addresses. Raises :class:`MachineError` where one cannot be listened on."""
        try:
            for address in self.config.addresses:
                await self._listen(address)
        except OSError as problem:
            self.stop()
            raise MachineError(
                "the observatory cannot listen",
                why=problem.strerror or str(problem),
                next_step="Ports 53 and 80 need root, or choose others with --dns-port and --http-port.",
            ) from None

    async def _listen(self, address: str) -> None:
        loop = asyncio.get_running_loop()
        http = _HttpServer(address, self.config, self.memory)
        self._http.append(http)
        threading.Thread(target=http.serve_forever, kwargs={"poll_interval": 0.2}, daemon=True).start()
        for port, respond in ((self.config.dns_port, self._name_asked), (self.config.stun_port, _stun)):
            transport, _ = await loop.create_datagram_endpoint(
                lambda respond=respond: _Datagrams(respond),  # type: ignore[misc]
                local_addr=(address, port),
            )
            self._closers.append(transport.close)
        server = await asyncio.start_server(self._tcp_asked, address, self.config.dns_port)
        self._closers.append(server.close)

    def stop(self) -> None:
        """Stop listening."""
        for http in self._http:
            http.shutdown()
            http.server_close()
        for close in self._closers:
            close()

    def _name_asked(self, data: bytes, source: tuple[str, int]) -> bytes | None:
        return self._dns(data, source[0], over_udp=True)

    def _dns(self, data: bytes, source: str, *, over_udp: bool) -> bytes | None:
        response, question = answer(data, self.config.zone, over_udp=over_udp)
        if question is not None:
            self.memory.remember(question, _plain(source), "UDP" if over_udp else "TCP", _now())
        return response

    async def _tcp_asked(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """RFC 7766: messages with a length in front; several on one connection."""
        source = writer.get_extra_info("peername")[0]
        async with self._tcp:
            with suppress(OSError, asyncio.IncompleteReadError, asyncio.TimeoutError):
                while True:
                    size = int.from_bytes(await asyncio.wait_for(reader.readexactly(2), TIMEOUT))
                    data = await asyncio.wait_for(reader.readexactly(size), TIMEOUT)
                    response = self._dns(data, source, over_udp=False)
                    if response is None:
                        break
                    writer.write(len(response).to_bytes(2) + response)
                    await asyncio.wait_for(writer.drain(), TIMEOUT)
        writer.close()


def _stun(data: bytes, source: tuple[str, int]) -> bytes | None:
    return stun.binding_response(data, source)
