"""The observatory's answers over HTTP, by aiohttp; what it lacks for the open internet is here: deadlines and limits.

Every connection has :data:`DEADLINE` seconds for each request, from its beginning, or the end of the one before, to the
end of its answer: whoever sends an octet now and then is closed like whoever sends none.
"""

from __future__ import annotations

import asyncio
import csv
import io
import ipaddress
import json
import re
import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from typing import Any, TextIO, cast

from zesty_burrow.extras import extra
from zesty_burrow.records import asdict

with extra("server"):
    from aiohttp import web

from zesty_burrow.core.crypto.jws import MEDIA_TYPE
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.outside.echo import INBOUND_MARK
from zesty_burrow.core.outside.geofeed import AddressBook
from zesty_burrow.observe.observatory.connections import Connections, Rate, source_of
from zesty_burrow.observe.observatory.memory import Memory
from zesty_burrow.observe.observatory.metrics import CONTENT_TYPE, Metrics

DEADLINE = 10.0
MAX_CONNECTIONS, MAX_EACH = 2048, 64
LONGEST_LINE = 2048
LONGEST_NONCE = 64
NONCE = re.compile(r"[A-Za-z0-9_-]{1,64}")
Handler = Callable[[web.BaseRequest], Awaitable[web.StreamResponse]]
INBOUND_SECONDS, MAX_INBOUND = 1.0, 32
"""How long, and how many at one time, are tried from outside."""
LOWEST_INBOUND = 1024
MOST_FIELDS = 64
PATHS = ("address", "address/ADDRESS", "names/TOKEN", "echoes/TOKEN", "inbound/PORT", "request", "health")
OTHERS = f"there is /v1, {', '.join(f'/v1/{path}' for path in PATHS)}"


class Timed(asyncio.Protocol):
    """A connection with its deadline, in front of the HTTP library's protocol."""

    def __init__(self, inner: Any, connections: Connections) -> None:
        self._inner, self._connections = inner, connections
        self._transport: asyncio.Transport | None = None
        self._source = ""
        self._timer: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast(asyncio.Transport, transport)
        self._source = source_of(transport.get_extra_info("peername")[0])
        self._inner.connection_made(transport)
        self._restart()
        self._connections.admit(self._source, self, self._abort)

    def _restart(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._timer = asyncio.get_running_loop().call_later(DEADLINE, self._abort)

    def _abort(self) -> None:
        if self._transport is not None:
            self._transport.abort()

    def answered(self) -> None:
        """A request is done; the next one has all the time again."""
        self._restart()
        self._connections.used(self._source, self)

    def data_received(self, data: bytes) -> None:
        self._inner.data_received(data)

    def eof_received(self) -> bool | None:
        result: bool | None = self._inner.eof_received()
        return result

    def pause_writing(self) -> None:
        self._inner.pause_writing()

    def resume_writing(self) -> None:
        self._inner.resume_writing()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._timer is not None:
            self._timer.cancel()
        self._connections.release(self._source, self)
        self._inner.connection_lost(exc)


class HttpService:
    """``factory`` makes the protocol of each connection. ``told``: what GET /v1 tells. ``signer``: signs a document for
    callers that ask for it; ``credential``: makes one for STUN, for each look. ``echoes``: sources of ICMP by token.
    """

    def __init__(
        self,
        told: dict[str, Any],
        book: AddressBook,
        memory: Memory,
        metrics: Metrics,
        rate: float,
        access_log: TextIO | None,
        signer: Callable[[bytes], str] | None = None,
        credential: Callable[[], dict[str, str]] | None = None,
        echoes: Callable[[str], list[str]] = lambda _: [],
    ) -> None:
        self._told, self._book, self._memory = told, book, memory
        self._signer, self._credential = signer, credential
        self._metrics, self._log = metrics, access_log
        self._echoes = echoes
        self._inbound = asyncio.Semaphore(MAX_INBOUND)
        self._rate = Rate(rate)
        self.connections = Connections(MAX_CONNECTIONS, MAX_EACH)
        self._public = self._runner(self._watched)
        self._private = self._runner(self._metrics_only)

    @staticmethod
    def _runner(handler: Handler) -> web.ServerRunner:
        server = web.Server(
            handler,
            access_log=None,
            keepalive_timeout=DEADLINE,
            max_line_size=LONGEST_LINE,
            max_field_size=LONGEST_LINE,
            lingering_time=0,
        )
        return web.ServerRunner(server, handle_signals=False)

    async def start(self) -> None:
        """Before any connection is made."""
        await self._public.setup()
        await self._private.setup()

    async def stop(self, seconds: float) -> None:
        """Let requests that are being answered finish, then close what is open."""
        for runner in (self._public, self._private):
            if runner.server is not None:
                await runner.server.shutdown(seconds)
            await runner.cleanup()

    def factory(self) -> asyncio.Protocol:
        return self._timed(self._public)

    def metrics_factory(self) -> asyncio.Protocol:
        """For the collector of the metrics."""
        return self._timed(self._private)

    def _timed(self, runner: web.ServerRunner) -> Timed:
        if runner.server is None:
            raise RuntimeError("not started")
        return Timed(runner.server(), self.connections)

    # Requests.

    async def _watched(self, request: web.BaseRequest) -> web.StreamResponse:
        """Answer, count, write down, and give the connection its time again."""
        began = time.monotonic()
        source = _endpoint(request)[0]
        wait = self._rate.wait(source_of(source))
        if wait:
            self._metrics.limited += 1
            answer = _document({"error": "too many requests from your network"}, 429)
            answer.headers["Retry-After"] = str(int(wait) + 1)
        else:
            answer = self._signed(request, await self._answer(request, source))
        seconds = time.monotonic() - began
        self._metrics.requests[answer.status] += 1
        self._metrics.seconds += seconds
        self._write_down(request, answer, source, seconds)
        self._answered(request)
        return answer

    async def _metrics_only(self, request: web.BaseRequest) -> web.StreamResponse:
        self._answered(request)
        if request.path != "/metrics":
            return _document({"error": "there is /metrics"}, 404)
        text = self._metrics.text(
            connections=len(self.connections), evicted=self.connections.evicted, runs=len(self._memory)
        )
        return web.Response(body=text.encode(), headers={"Content-Type": CONTENT_TYPE})

    @staticmethod
    def _answered(request: web.BaseRequest) -> None:
        timed = request.transport.get_protocol() if request.transport is not None else None
        if isinstance(timed, Timed):
            timed.answered()

    def _write_down(self, request: web.BaseRequest, answer: web.Response, source: str, seconds: float) -> None:
        if self._log is None:
            return
        row = {
            "time": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
            "source": source,
            "method": request.method[:16],
            "path": request.path[:200],
            "status": answer.status,
            "octets": answer.content_length or 0,
            "seconds": round(seconds, 6),
        }
        self._log.write(json.dumps(row) + "\n")
        self._log.flush()

    async def _answer(self, request: web.BaseRequest, source: str) -> web.Response:
        path = request.path
        if request.method not in ("GET", "HEAD"):
            answer = _document({"error": "GET is all there is"}, 405)
            answer.headers["Allow"] = "GET, HEAD"
            return answer
        if path == "/v1":
            fresh = {"stun_credential": self._credential()} if self._credential else {}
            return _document({**self._told, **fresh})
        if path == "/v1/health":
            return _document({"state": "answering"})
        wants_csv = request.query.get("format") == "csv" or request.headers.get("Accept") == "text/csv"
        if path == "/v1/address":
            return self._address(source, wants_csv)
        if path.startswith("/v1/address/"):
            # Of another address than the caller's: where an exit is, that was seen from inside a tunnel.
            try:
                asked = str(ipaddress.ip_address(path.removeprefix("/v1/address/")))
            except ValueError:
                return _document({"error": "an IPv4 or IPv6 address is needed"}, 400)
            return self._address(asked, wants_csv)
        if path.startswith("/v1/names/"):
            return self._names(path.removeprefix("/v1/names/").lower())
        if path.startswith("/v1/echoes/"):
            token = path.removeprefix("/v1/echoes/").lower()
            rows = [describe(self._book, address) for address in self._echoes(token)]
            return _document({"token": token[:64], "sources": rows})
        if path.startswith("/v1/inbound/"):
            return await self._try_inbound(path.removeprefix("/v1/inbound/"), source, request.query.get("nonce", ""))
        if path == "/v1/request":
            return self._request(request, source)
        return _document({"error": OTHERS}, 404)

    def _signed(self, request: web.BaseRequest, answer: web.Response) -> web.Response:
        """With the caller's nonce and our time, as JWS (RFC 7515), for callers that take it."""
        wanted = MEDIA_TYPE in request.headers.get("Accept", "")
        if self._signer is None or not wanted or answer.status != 200 or not isinstance(answer.body, bytes):
            return answer
        document = json.loads(answer.body)
        nonce = request.query.get("nonce", "")[:LONGEST_NONCE]
        stamp = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        payload = json.dumps({**document, "nonce": nonce, "time": stamp, "path": request.path}).encode()
        return _body(self._signer(payload).encode(), MEDIA_TYPE)

    def _address(self, address: str, wants_csv: bool) -> web.Response:
        found = describe(self._book, address)
        if not wants_csv:
            return _document(found)
        text = io.StringIO()
        writer = csv.DictWriter(text, list(found))
        writer.writeheader()
        writer.writerow(found)
        return _body(text.getvalue().encode(), "text/csv; charset=utf-8")

    async def _try_inbound(self, text: str, source: str, nonce: str) -> web.Response:
        """Connect to the caller's own address, never another one, and send the caller's nonce there.

        Behind :data:`INBOUND_MARK`, and of letters that mean nothing to other services: it may be a stranger's choice.
        """
        if not NONCE.fullmatch(nonce):
            return _document({"error": "a nonce of letters, digits, - and _ is needed"}, 400)
        port = int(text) if text.isascii() and text.isdigit() and len(text) < 6 else 0
        if not LOWEST_INBOUND <= port < 65536:
            return _document({"error": f"a port from {LOWEST_INBOUND} on is needed"}, 400)
        if self._inbound.locked():
            return _document({"error": "too many are tried at this moment"}, 503)
        async with self._inbound:
            connected = False
            with suppress(OSError, TimeoutError):
                async with asyncio.timeout(INBOUND_SECONDS):
                    _, writer = await asyncio.open_connection(plain(source), port)
                    connected = True
                    try:
                        writer.write(INBOUND_MARK + nonce.encode() + b"\n")
                        await writer.drain()
                    finally:
                        writer.close()
        return _document({"address": plain(source), "port": port, "connected": connected})

    @staticmethod
    def _request(request: web.BaseRequest, source: str) -> web.Response:
        """What arrived: for callers over HTTP that want to know whether anybody changes it on the way."""
        fields = [[one.decode("latin-1") for one in row] for row in request.raw_headers[:MOST_FIELDS]]
        version = f"{request.version.major}.{request.version.minor}"
        return _document({"address": plain(source), "version": version, "target": request.raw_path, "fields": fields})

    def _names(self, token: str) -> web.Response:
        rows = [
            {
                **asdict(one),
                **{key: value for key, value in describe(self._book, one.resolver).items() if key != "address"},
            }
            for one in self._memory.recall(token)
        ]
        return _document({"token": token[:64], "questions": rows})


def _endpoint(request: web.BaseRequest) -> Endpoint:
    peer = request.transport.get_extra_info("peername") if request.transport is not None else None
    return (peer[0], peer[1]) if peer else ("::", 0)


def _document(document: dict[str, Any], status: int = 200) -> web.Response:
    return _body(json.dumps({"format": 1, **document}).encode() + b"\n", "application/json", status)


def _body(body: bytes, kind: str, status: int = 200) -> web.Response:
    headers = {
        "Content-Type": kind,
        "Cache-Control": "no-store",
        "Server": "observatory",
        # Everybody may ask it, and so may a page of somebody else's server in a caller's browser (WHATWG Fetch).
        "Access-Control-Allow-Origin": "*",
    }
    return web.Response(body=body, status=status, headers=headers)


def plain(address: str) -> str:
    """An address as text, without zone and IPv4 mapping."""
    parsed = ipaddress.ip_address(address.partition("%")[0])
    return str(getattr(parsed, "ipv4_mapped", None) or parsed)


def describe(book: AddressBook, address: str) -> dict[str, str]:
    """An address with operator and place, as the interface tells it."""
    short = plain(address)
    place = book.place(short)
    return {
        "address": short,
        "operator": book.operator(short),
        "country": place.country if place else "",
        "region": place.region if place else "",
        "city": place.city if place else "",
    }
