"""How an observatory is asked: over HTTP or HTTPS, and what proves that it was the observatory who answered.

A certificate proves it (RFC 9110 §4.3.4), or a signature by a key that the settings name (JWS, RFC 7515), with a nonce
of the caller's, so that no earlier answer can be played again.
"""

from __future__ import annotations

import http.client
import json
import secrets
import socket
import ssl
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from zesty_burrow.core.crypto import jws
from zesty_burrow.errors import InputError, Malformed, UsageError
from zesty_burrow.records import dataclass, field

MAX_BODY = 1 << 20
TIMEOUT = 5.0
PORTS = {"http": 80, "https": 443}
BY_SIGNATURE, BY_CERTIFICATE, BY_NOTHING = "signature", "certificate", "none"
"""What has proven an answer."""
ACCEPTED = f"{jws.MEDIA_TYPE}, application/json"


@dataclass(frozen=True, slots=True)
class ObservatoryAddress:
    """An observatory's URL taken apart. ``key``: the public key that it signs with, as text, empty: not known;
    ``authority``: a file with the authorities of its certificate, empty: the system's.
    """

    host: str
    port: int = 80
    tls: bool = False
    key: str = ""
    authority: str = ""
    _contexts: list[ssl.SSLContext] = field(default_factory=list, compare=False, repr=False)
    _resolved: list[tuple[str, ...]] = field(default_factory=list, compare=False, repr=False)

    @classmethod
    def of(cls, url: str, key: str = "", authority: str = "") -> ObservatoryAddress:
        """From ``https://HOST[:PORT]`` or ``http://HOST[:PORT]``; :class:`UsageError` for anything else."""
        try:
            parts = urlsplit(url)
            port = parts.port or PORTS.get(parts.scheme, 0)
        except ValueError:
            raise UsageError(f"{url!r} is not an observatory's address", why="it is no URL") from None
        if parts.scheme not in PORTS or not parts.hostname or parts.path not in ("", "/") or parts.query:
            raise UsageError(f"{url!r} is not an observatory's address", why="https://HOST or https://HOST:PORT is")
        if key:
            try:
                jws.public_key(key)
            except Malformed as problem:
                raise UsageError("the observatory's key cannot be used", why=problem.why) from None
        return cls(parts.hostname, port, parts.scheme == "https", key, authority)

    @property
    def proof(self) -> str:
        """What proves its answers."""
        return BY_SIGNATURE if self.key else BY_CERTIFICATE if self.tls else BY_NOTHING

    def addresses(self) -> tuple[str, ...]:
        """The addresses of its name, looked up once; empty if it has none."""
        if not self._resolved:
            # Each family by itself: a line of the hosts file for one of them must not hide the other.
            with ThreadPoolExecutor(2) as pool:
                rows = pool.map(self._resolve, (socket.AF_INET, socket.AF_INET6))
            self._resolved.append(tuple(dict.fromkeys(one for some in rows for one in some)))
        return self._resolved[0]

    def _resolve(self, family: socket.AddressFamily) -> list[str]:
        with suppress(OSError):
            return [str(row[4][0]) for row in socket.getaddrinfo(self.host, self.port, family, socket.SOCK_STREAM)]
        return []

    def context(self) -> ssl.SSLContext:
        """How its certificate is judged. Raises :class:`InputError` for a file that cannot be used."""
        if not self._contexts:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
            if not self.authority:
                context.load_default_certs()
            else:
                try:
                    context.load_verify_locations(Path(self.authority))
                except (OSError, ssl.SSLError) as problem:
                    raise InputError(
                        f"the observatory's authorities in {self.authority} cannot be used",
                        why=problem.strerror or str(problem),
                        next_step="Name a file of certificates in PEM: observatory_authority in the settings.",
                    ) from None
            context.minimum_version = ssl.TLSVersion.TLSv1_2
            self._contexts.append(context)
        return self._contexts[0]


class Answer(NamedTuple):
    """``document``: what it says, proven as its address wants it; ``signed``: the same as it was signed, or empty."""

    document: dict[str, Any]
    signed: str = ""


class Unproven(OSError):
    """An answer that nothing proves, although the settings name a key or the URL asks for a certificate."""


def connect(observatory: ObservatoryAddress, host: str) -> http.client.HTTPConnection:
    """A connection to one of its addresses. Raises ``OSError``, among them :class:`Unproven`."""
    connection = http.client.HTTPConnection(host, observatory.port, timeout=TIMEOUT)
    channel = socket.create_connection((host, observatory.port), TIMEOUT)
    channel.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    if observatory.tls:
        try:
            connection.sock = observatory.context().wrap_socket(channel, server_hostname=observatory.host)
        except ssl.SSLCertVerificationError as problem:
            channel.close()
            raise Unproven(problem.verify_message or str(problem)) from None
        except OSError:
            channel.close()
            raise
    else:
        connection.sock = channel
    return connection


def ask(
    connection: http.client.HTTPConnection, observatory: ObservatoryAddress, path: str, nonce: str = ""
) -> Answer | None:
    """A JSON object; None where it has another answer. Raises ``OSError`` or ``http.client.HTTPException``.

    ``nonce``: the caller's, empty: a fresh one.
    """
    nonce = nonce or secrets.token_urlsafe(16)
    headers = {"Host": observatory.host, "Accept": ACCEPTED}
    connection.request("GET", f"{path}?nonce={nonce}", headers=headers)
    response = connection.getresponse()
    body = response.read(MAX_BODY)
    if response.status != 200:
        return None
    return read_answer(body, response.getheader("Content-Type", ""), observatory, path, nonce)


def read_answer(body: bytes, kind: str, observatory: ObservatoryAddress, path: str, nonce: str) -> Answer | None:
    """A stranger's answer. Raises :class:`Unproven` where a key is known and it was not signed by that, now, for us."""
    signed = kind.partition(";")[0].strip().lower() == jws.MEDIA_TYPE
    text = body.decode("ascii", "replace").strip()
    if observatory.key:
        if not signed:
            raise Unproven("the answer is not signed, though the settings name a key")
        try:
            document = _object(jws.verify(text, jws.public_key(observatory.key)))
        except Malformed as problem:
            raise Unproven(problem.why or problem.what) from None
        if document is None or document.get("nonce") != nonce or document.get("path") != path:
            raise Unproven("the answer was signed for another question")
        return Answer(document, text)
    try:
        document = _object(jws.payload_of(text)) if signed else _object(body)
    except Malformed:
        return None
    return Answer(document, text if signed else "") if document is not None else None


def _object(octets: bytes) -> dict[str, Any] | None:
    try:
        document = json.loads(octets)
    except (ValueError, RecursionError):
        return None
    return document if isinstance(document, dict) else None
