"""A provider's portal over HTTPS: sign in, see places, fetch kits and the credentials for manual set-up.

The interface is our own small one, documented in docs/portal.md. Nothing of a kit is written to disk: it may hold
secrets. A download that breaks off is resumed where it stopped (RFC 9110 §14) as long as the kit is the same.
"""

from __future__ import annotations

import http.client
import json
import ssl
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlsplit

from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import OutsideError, SignInRefused, UsageError, printable
from zesty_burrow.intake import limits
from zesty_burrow.records import dataclass, field

FORMAT = 1
MAX_DOCUMENT = 1 << 20
MAX_PLACES = 10_000
SILENCE = 10.0
"""Seconds that a portal may say nothing."""
MAX_CALL_SECONDS = 30.0
"""Seconds that a call may take in all, or the answer to a fetch may take to begin."""
MAX_DOWNLOAD_SECONDS = 900.0
"""Seconds that one fetch may take in all."""
TRIES = 6
CHUNK = 1 << 16
PAUSE = 0.3
Progress = Callable[[int, int], None]


@dataclass(frozen=True, slots=True)
class PortalPlace:
    """A place as the portal tells it; ``load`` in percent, -1 where it does not say."""

    name: str
    country: str
    city: str
    protocols: tuple[str, ...]
    load: int
    kit: str


class _BoundedSocket(ssl.SSLSocket):
    """A connection that reads until a time: an octet now and then does not keep it waiting."""

    until = float("inf")
    """By the monotonic clock."""

    def recv_into(self, buffer: Any, nbytes: int | None = None, flags: int = 0) -> int:
        left = self.until - time.monotonic()
        if left <= 0:
            raise TimeoutError("it took too long in all")
        self.settimeout(min(SILENCE, left))
        return super().recv_into(buffer, nbytes, flags)


def _malformed(what: str) -> OutsideError:
    return OutsideError(
        "the portal's answer is malformed",
        why=what,
        next_step="Check the address: it may be an ordinary web page and no portal (docs/portal.md).",
        slug="portal-malformed",
    )


@dataclass(slots=True)
class PortalClient:
    """One portal. ``authority``: a PEM file to trust instead of the system's authorities."""

    url: str
    authority: Path | None = None
    _host: str = ""
    _port: int = 443
    _base: str = ""
    _token: str = field(default="", repr=False)
    _context: ssl.SSLContext | None = None
    _socket: _BoundedSocket | None = None
    _connection: http.client.HTTPSConnection | None = None

    def __post_init__(self) -> None:
        parts = urlsplit(self.url)
        try:
            host, port = parts.hostname, parts.port
        except ValueError:
            host, port = None, None
        if parts.scheme != "https" or not host or parts.username or parts.query or parts.fragment:
            raise UsageError(
                f"{printable(self.url)!r} is not a portal's address", next_step="For example: https://portal.example/"
            )
        self._host, self._port, self._base = host, port or 443, parts.path.rstrip("/")
        try:
            self._context = ssl.create_default_context(cafile=str(self.authority) if self.authority else None)
        except (OSError, ssl.SSLError) as problem:
            raise UsageError(f"{self.authority} cannot be used as an authority", why=str(problem)) from None
        self._context.minimum_version = ssl.TLSVersion.TLSv1_2
        self._context.sslsocket_class = _BoundedSocket

    def _open(self, method: str, path: str, headers: dict[str, str], body: bytes | None) -> http.client.HTTPResponse:
        connection = http.client.HTTPSConnection(self._host, self._port, timeout=SILENCE, context=self._context)
        self._connection = connection
        try:
            return self._answer_of(connection, method, path, headers, body)
        except BaseException:
            self._close()
            raise

    def _close(self) -> None:
        """Also where the portal would let it go on."""
        if self._connection is not None:
            self._connection.close()
        self._connection = self._socket = None

    def _answer_of(
        self,
        connection: http.client.HTTPSConnection,
        method: str,
        path: str,
        headers: dict[str, str],
        body: bytes | None,
    ) -> http.client.HTTPResponse:
        try:
            connection.connect()
            self._until(MAX_CALL_SECONDS, connection.sock)
            connection.request(method, self._base + path, body=body, headers=headers)
            return connection.getresponse()
        except ssl.SSLCertVerificationError as problem:
            raise OutsideError(
                f"the portal {self._host} did not prove its identity",
                why=f"{problem.verify_message}; no credentials were sent to it",
                next_step="Do not sign in there. If its authority is the provider's own, name it: --authority FILE",
                slug="portal-not-proven",
            ) from None
        except (OSError, UnicodeError, http.client.HTTPException) as problem:
            raise OutsideError(
                f"the portal {self._host} cannot be reached",
                why=str(problem) or type(problem).__name__,
                next_step="Check the address, name resolution, and that HTTPS may leave this network.",
                slug="portal-unreachable",
            ) from None

    def _until(self, seconds: float, opened: Any = None) -> None:
        """How long the connection may go on from now."""
        self._socket = opened or self._socket
        if self._socket is not None:
            self._socket.until = time.monotonic() + seconds

    def _headers(self) -> dict[str, str]:
        own = {"Accept": "application/json", "User-Agent": "zesty-burrow"}
        return {**own, "Authorization": f"Bearer {self._token}"} if self._token else own

    def _call(self, method: str, path: str, document: dict[str, Any] | None = None) -> dict[str, Any]:
        body = json.dumps(document).encode() if document is not None else None
        headers = {**self._headers(), **({"Content-Type": "application/json"} if body else {})}
        answer = self._open(method, path, headers, body)
        try:
            data = answer.read(MAX_DOCUMENT + 1)
        except (OSError, http.client.HTTPException) as problem:
            raise _malformed(f"it broke off ({type(problem).__name__})") from None
        finally:
            answer.close()
            self._close()
        return self._document(answer.status, data)

    def _document(self, status: int, data: bytes) -> dict[str, Any]:
        try:
            found = json.loads(data) if len(data) <= MAX_DOCUMENT else None
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, dict) or found.get("format") != FORMAT:
            raise _malformed(f"status {status}, and no JSON object of format {FORMAT}")
        if status == 200:
            return found
        error = found.get("error")
        words = error if isinstance(error, dict) else {}
        self._refused(status, str(words.get("message", ""))[:300], str(words.get("ask", ""))[:200])
        return {}

    def _refused(self, status: int, message: str, ask: str) -> None:
        said = f"{message} (status {status})" if message else f"status {status}"
        if status in (401, 403):
            whom = f"Ask {ask}." if ask else "Check the account and password for the portal; look for a stray space."
            raise SignInRefused(
                f"the portal {self._host} refused the sign-in",
                why=f"it says: {said}",
                next_step=whom,
                slug="portal-refused" if status == 401 else "portal-not-allowed",
            )
        raise OutsideError(f"the portal {self._host} refused the call", why=f"it says: {said}", slug="portal-malformed")

    def sign_in(self, account: NamePassword) -> None:
        """Sign in. :class:`SignInRefused` with the portal's own words, and whom to ask."""
        answer = self._call("POST", "/sign-in", {"account": account.account, "password": account.password.text()})
        token = answer.get("token")
        if not isinstance(token, str) or not token.isascii() or not token.isprintable() or not 0 < len(token) < 4096:
            raise _malformed("there is no token in it")
        self._token = token

    def places(self) -> list[PortalPlace]:
        """All places that it offers."""
        rows = self._call("GET", "/places").get("places")
        if not isinstance(rows, list) or len(rows) > MAX_PLACES or not all(isinstance(row, dict) for row in rows):
            raise _malformed("there is no list of places in it")
        return [_place(row) for row in rows]

    def credentials(self) -> tuple[NamePassword, str]:
        """The credentials that are meant for manual set-up, and the provider that they are for."""
        found = self._call("GET", "/credentials")
        name, password = found.get("name"), found.get("password")
        if not isinstance(name, str) or not isinstance(password, str):
            raise _malformed("an account name and a password are needed")
        return NamePassword(name, Secret(password)), str(found.get("provider", ""))[:200]

    def recommendation(self) -> tuple[str, str]:
        """The place that it recommends, and why."""
        found = self._call("GET", "/recommendation")
        return printable(str(found.get("place", ""))[:100]), printable(str(found.get("reason", ""))[:300])

    def kit(self, place: str, progress: Progress) -> bytes:
        """One place's kit, or that of ``all``; goes on where a download broke off."""
        data, tag, total = b"", "", 0
        deadline = time.monotonic() + MAX_DOWNLOAD_SECONDS
        for attempt in range(TRIES):
            if attempt:
                time.sleep(PAUSE * attempt)
            headers = {**self._headers(), "Accept": "application/zip"}
            if data and tag:
                headers |= {"Range": f"bytes={len(data)}-", "If-Range": tag}
            answer = self._open("GET", f"/kits/{quote(place, safe='')}", headers, None)
            try:
                if answer.status not in (200, 206):
                    self._document(answer.status, answer.read(MAX_DOCUMENT + 1))
                data, total = _begin(answer, data)
                tag = answer.headers.get("ETag", "") or ""
                self._until(deadline - time.monotonic())
                data = _receive(answer, data, total, deadline, progress)
            finally:
                answer.close()
                self._close()
            if len(data) == total:
                return data
        raise OutsideError(
            f"the kit of {place} is incomplete",
            why=f"{len(data)} of {total} octets after {TRIES} tries",
            next_step="Try again later; nothing was taken.",
            slug="portal-broken-off",
        )


def _begin(answer: http.client.HTTPResponse, data: bytes) -> tuple[bytes, int]:
    """What is already stored, and how much there is in all (RFC 9110 §14.4)."""
    length = answer.headers.get("Content-Length", "")
    if not length.isascii() or not length.isdigit():
        raise _malformed("it does not say how long the kit is")
    if answer.status == 200:
        data = b""
        total = int(length)
    else:
        wanted = f"bytes {len(data)}-"
        span, _, size = (answer.headers.get("Content-Range") or "").partition("/")
        if not span.startswith(wanted) or not size.isascii() or not size.isdigit():
            raise _malformed("it sent another part of the kit than was asked for")
        total = int(size)
    if total > limits.MAX_KIT_FILE:
        raise limits.refused("archive-bomb", "the portal's kit", f"{total} octets")
    return data, total


def _receive(answer: http.client.HTTPResponse, data: bytes, total: int, deadline: float, progress: Progress) -> bytes:
    """As much as comes; what broke off is short."""
    parts = [data]
    have = len(data)
    while have < total and time.monotonic() < deadline:
        try:
            part = answer.read1(min(CHUNK, total - have))
        except (TimeoutError, OSError, http.client.HTTPException):
            break
        if not part:
            break
        parts.append(part)
        have += len(part)
        progress(have, total)
    return b"".join(parts)


def _place(row: dict[str, Any]) -> PortalPlace:
    load = row.get("load")
    protocols = row.get("protocols")
    words = [printable(str(protocol)[:40]) for protocol in protocols[:20]] if isinstance(protocols, list) else []
    return PortalPlace(
        printable(str(row.get("name", ""))[:100]),
        printable(str(row.get("country", ""))[:2]),
        printable(str(row.get("city", ""))[:100]),
        tuple(words),
        load if isinstance(load, int) and 0 <= load <= 100 else -1,
        str(row.get("kit", ""))[:200],
    )
