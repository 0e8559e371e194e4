"""Serves the page of one-time links over HTTPS, and takes devices' reports. It never has what would open a link.

``GET /o/TOKEN`` is the page, the same for all: programs that look at links on their way open nothing. What is behind a
link is given once, to ``POST /o/TOKEN/open``, which the page sends after its reader has pressed a button.
"""

from __future__ import annotations

import asyncio
import base64
import json
import socket
from collections.abc import Callable
from contextlib import suppress
from importlib.resources import files
from typing import Any, Protocol

from zesty_burrow.extras import extra
from zesty_burrow.records import dataclass, field

with extra("server"):
    from aiohttp import web

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.errors import BurrowError, InputError, MachineError, Malformed
from zesty_burrow.fleet.enrolment import LONGEST as LONGEST_ENROLMENT
from zesty_burrow.fleet.enrolment import read_ask, read_taken
from zesty_burrow.fleet.keys import pickup_name
from zesty_burrow.fleet.links.check import LONGEST as LONGEST_CHECK
from zesty_burrow.fleet.links.link import STEPS, earlier, name_of
from zesty_burrow.fleet.links.texts import page_texts
from zesty_burrow.fleet.report import LONGEST as LONGEST_REPORT
from zesty_burrow.observe.observatory.connections import Connections, Rate, source_of
from zesty_burrow.observe.observatory.http_server import Timed
from zesty_burrow.observe.observatory.tls import Certificate
from zesty_burrow.store.fleet.enrolment_store import Enrolment, EnrolmentStore
from zesty_burrow.store.fleet.link_store import LinkRow, LinkStore

LONGEST_TOKEN, LONGEST_BODY, LEAST_OPENER = 64, 1024, 22
MAX_CONNECTIONS, MAX_EACH, REQUESTS_A_SECOND, OFTEN_A_SECOND = 1024, 64, 20.0, 250.0
"""Of each source address; a whole office may report from one, and open its links."""
TEXTS, CHECKS_SCRIPT = "texts.json", "checks.js"
KINDS = {
    "page.html": "text/html",
    "words.js": "text/javascript",
    "page.js": "text/javascript",
    "check.html": "text/html",
    "check.js": "text/javascript",
    CHECKS_SCRIPT: "text/javascript",
    "style.css": "text/css",
    TEXTS: "application/json",
}
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'%s; base-uri 'none'; "
    "form-action 'none'; frame-ancestors 'none'"
)
"""W3C Content Security Policy: nothing from elsewhere, nothing to elsewhere but the observatory of a check."""
HEADERS = {
    "Content-Security-Policy": POLICY % "",
    "Referrer-Policy": "no-referrer",
    "X-Content-Type-Options": "nosniff",
    "Cache-Control": "no-store",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Strict-Transport-Security": "max-age=31536000",
}


def _checks_script() -> bytes:
    """The checks' own parts of the check page."""
    scripts = [check.script for check in CHECKS if check.script is not None]
    parts = [files(package).joinpath(name).read_text("utf-8") for package, name in scripts]
    return "\n".join(('"use strict";\nconst checks = {};\n', *parts)).encode()


def _check_policy(observatory: str) -> str:
    """Of the check's page: it asks the observatory as well."""
    return POLICY % f" https://{observatory} https://*.{observatory}"


def asset(name: str) -> bytes:
    """A file of the page; the texts with the protocols' own labels."""
    if name == TEXTS:
        return json.dumps(page_texts(), ensure_ascii=False).encode()
    if name == CHECKS_SCRIPT:
        return _checks_script()
    return files("zesty_burrow.fleet.links.pages").joinpath(name).read_bytes()


class CheckPages(Protocol):
    """What the check pages need."""

    @property
    def observatory(self) -> str:
        """The host that pages ask by HTTPS."""

    def about(self, name: str) -> dict[str, Any] | None:
        """What a page may know of a link's device; None if the link is unknown."""

    def judge(self, name: str, document: Any) -> dict[str, Any]:
        """The verdict on a page's observations, as plain values. Raises :class:`Malformed`."""


class LinkEvents(Protocol):
    """Receives what devices and their owners report."""

    def step(self, row: LinkRow) -> None:
        """An owner has got further."""

    def report(self, data: bytes) -> None:
        """A device reports. Raises :class:`InputError` if the report is not taken."""

    def fetched(self, device: str) -> None:
        """A device has what waited for it."""

    def problem(self, text: str) -> None:
        """A request could not be answered; the text says why."""


@dataclass(slots=True)
class LinkServer:
    """``now``: the time (RFC 3339). Without ``check`` there are no check pages."""

    links: LinkStore
    enrolments: EnrolmentStore
    certificate: Certificate
    now: Callable[[], str]
    events: LinkEvents
    check: CheckPages | None = None
    _connections: Connections = field(default_factory=lambda: Connections(MAX_CONNECTIONS, MAX_EACH))
    _rate: Rate = field(default_factory=lambda: Rate(REQUESTS_A_SECOND))
    _often: Rate = field(default_factory=lambda: Rate(OFTEN_A_SECOND))
    _runner: web.ServerRunner | None = None
    _servers: list[asyncio.Server] = field(default_factory=list)

    async def start(self, addresses: list[str], port: int) -> None:
        """Listen. Raises :class:`MachineError` where that cannot be."""
        server = web.Server(self._handle, access_log=None, max_line_size=2048, max_field_size=2048, lingering_time=0)
        self._runner = web.ServerRunner(server, handle_signals=False)
        await self._runner.setup()
        try:
            for address in addresses:
                family = socket.AF_INET6 if ":" in address else socket.AF_INET
                made = await asyncio.get_running_loop().create_server(
                    self._protocol, address, port, family=family, ssl=self.certificate.context, reuse_address=True
                )
                self._servers.append(made)
        except OSError as problem:
            await self.stop()
            raise MachineError(
                f"{address} port {port} cannot be listened on",
                why=problem.strerror or str(problem),
                next_step="Name an address of this machine, and a port that is free: --address, --port.",
            ) from None

    @property
    def port(self) -> int:
        """Where it listens."""
        return int(self._servers[0].sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Close everything."""
        for server in self._servers:
            server.close()
        self._servers.clear()
        if self._runner is not None:
            await self._runner.cleanup()

    def _protocol(self) -> asyncio.Protocol:
        if self._runner is None or self._runner.server is None:
            raise AssertionError("not started")
        return Timed(self._runner.server(), self._connections)

    async def _handle(self, request: web.BaseRequest) -> web.StreamResponse:
        peer = request.transport.get_extra_info("peername") if request.transport is not None else None
        # Pages and their parts come many at a time, and tell nothing of what is behind a link.
        often = request.path == "/r" or request.method in ("GET", "HEAD")
        rate = self._often if often else self._rate
        wait = rate.wait(source_of(str(peer[0]) if peer else "::"))
        try:
            answer = _document({"error": "too many requests"}, 429) if wait else await self._answer(request)
        except BurrowError as problem:
            # The store is full, locked or away: it may be asked again.
            self.events.problem(str(problem))
            answer = _document({"error": "not at the moment"}, 503)
        answer.headers.update({**HEADERS, **answer.headers})
        timed = request.transport.get_protocol() if request.transport is not None else None
        if isinstance(timed, Timed):
            timed.answered()
        return answer

    async def _answer(self, request: web.BaseRequest) -> web.Response:
        parts = request.path.strip("/").split("/")
        if parts == ["r"] and request.method == "POST":
            return await self._report(request)
        if parts[0] in ("e", "p"):
            return await self._enrolment(parts, request)
        if parts[0] == "a" and len(parts) == 2 and parts[1] in KINDS and request.method in ("GET", "HEAD"):
            return _file(parts[1])
        if parts[0] == "c" and self.check is not None and 2 <= len(parts) <= 3:
            return await self._check(self.check, parts, request)
        if parts[0] != "o" or not 2 <= len(parts) <= 3 or not 0 < len(parts[1]) <= LONGEST_TOKEN:
            return _document({"error": "there is nothing here"}, 404)
        if len(parts) == 2:
            if request.method not in ("GET", "HEAD"):
                return _document({"error": "GET is all there is"}, 405)
            return _file("page.html")
        if request.method != "POST":
            return _document({"error": "POST is all there is"}, 405)
        if parts[2] == "open":
            return await self._open(name_of(parts[1]), request)
        return await self._step(name_of(parts[1]), request) if parts[2] == "step" else _document({}, 404)

    async def _open(self, name: str, request: web.BaseRequest) -> web.Response:
        """The same browser may ask again for a moment: its answer may have been lost on the way."""
        if request.content_length is not None and request.content_length > LONGEST_BODY:
            return _document({"error": "too long"}, 413)
        opener = await _opener_in(request)
        sealed = self.links.open_once(name, self.now(), name_of(opener) if opener else "", earlier(self.now()))
        found = self.links.find(name)
        if sealed is None:
            # What is not known and what is over look alike to somebody who guesses.
            opened = found.opened_at if found is not None else ""
            return _document({"error": "opened before", "at": opened} if opened else {"error": "not known"}, 410)
        self._tell(found)
        return _document({"sealed": base64.b64encode(sealed).decode(), "check": self.check is not None})

    async def _check(self, check: CheckPages, parts: list[str], request: web.BaseRequest) -> web.Response:
        """The page, what it may know, and what comes of what it has observed."""
        if len(parts) == 2 and request.method in ("GET", "HEAD"):
            page = _file("check.html")
            page.headers["Content-Security-Policy"] = _check_policy(check.observatory)
            return page
        if len(parts) != 3 or request.method != "POST":
            return _document({"error": "there is nothing here"}, 404)
        name = name_of(parts[1][:LONGEST_TOKEN])
        about = check.about(name)
        if about is None:
            return _document({"error": "not known"}, 410)
        if parts[2] == "begin":
            return _document({**about, "observatory": check.observatory})
        if _is_longer(request, LONGEST_CHECK):
            return _document({"error": "too long"}, 413)
        try:
            return _document(check.judge(name, json.loads(await request.read())))
        except (Malformed, ValueError, RecursionError):
            return _document({"error": "this is no observation"}, 400)

    async def _report(self, request: web.BaseRequest) -> web.Response:
        """A device's report: 200 where it is kept, also where it came before; 4xx where it need not be sent again."""
        if _is_longer(request, LONGEST_REPORT):
            return _document({"error": "too long"}, 413)
        try:
            self.events.report(await request.read())
        except InputError as problem:
            return _document(
                {"error": problem.what, "why": problem.why}, 403 if problem.slug == "report-unknown" else 400
            )
        return _document({})

    def _tell(self, row: LinkRow | None) -> None:
        """What the administrator sees of it must not keep the owner from what was opened."""
        if row is not None:
            with suppress(BurrowError, OSError):
                self.events.step(row)

    async def _enrolment(self, parts: list[str], request: web.BaseRequest) -> web.Response:
        """A device that wants to be in the list; or that fetches what waits for it, and says that it has it."""
        if parts[0] == "p" and len(parts) == 2 and request.method == "GET":
            found = self.enrolments.find(parts[1][:64])
            if found is None:
                return _document({"error": "nothing is waiting"}, 404)
            return web.Response(body=found[2], content_type="application/json")
        if request.method != "POST" or parts not in (["e"], ["p"]):
            return _document({"error": "there is nothing here"}, 404)
        if _is_longer(request, LONGEST_ENROLMENT):
            return _document({"error": "too long"}, 413)
        data = await request.read()
        try:
            if parts == ["e"]:
                key, name, kind = read_ask(data)
                self.enrolments.note(Enrolment(key.text, name, kind, self.now()))
            else:
                key, number = read_taken(data)
                waiting = self.enrolments.find(pickup_name(key))
                # Of an older bundle it says nothing of the one that waits.
                if waiting is not None and number >= waiting[1]:
                    self.events.fetched(waiting[0])
                    self.enrolments.taken(pickup_name(key), number)
        except Malformed as problem:
            return _document({"error": problem.what, "why": problem.why}, 400)
        return _document({})

    async def _step(self, name: str, request: web.BaseRequest) -> web.Response:
        if _is_longer(request, LONGEST_BODY):
            return _document({"error": "too long"}, 413)
        try:
            document = json.loads(await request.read())
        except (ValueError, RecursionError):
            document = None
        step = document.get("step") if isinstance(document, dict) else None
        if step not in STEPS:
            return _document({"error": "no such step"}, 400)
        found = self.links.note_step(name, str(step), self.now())
        if found is None:
            return _document({"error": "not known"}, 410)
        self._tell(found)
        return _document({})


def _is_longer(request: web.BaseRequest, most: int) -> bool:
    """Whether a body is longer than so many octets, or does not say how long it is."""
    return request.content_length is None or request.content_length > most


async def _opener_in(request: web.BaseRequest) -> str:
    """By what a browser wants to be known to have opened a link; empty where it says nothing of it."""
    if request.content_length is None:
        return ""
    try:
        document = json.loads(await request.read())
    except (ValueError, RecursionError):
        return ""
    opener = document.get("opener") if isinstance(document, dict) else None
    return opener if isinstance(opener, str) and len(opener) >= LEAST_OPENER else ""


def _document(content: dict[str, Any], status: int = 200) -> web.Response:
    return web.Response(body=json.dumps(content).encode(), status=status, content_type="application/json")


def _file(name: str) -> web.Response:
    return web.Response(body=asset(name), content_type=KINDS[name], charset="utf-8")
