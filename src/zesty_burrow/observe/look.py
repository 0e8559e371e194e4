"""One look at an observatory: the questions of all checks, the way an application's traffic goes."""

from __future__ import annotations

import http.client
import secrets
import socket
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any, TypeVar

from zesty_burrow.core.dns.question import Reply
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.asked.resolvers import STANDARD_NAMES
from zesty_burrow.core.outside.checks.check import PlainExchange
from zesty_burrow.observe.channel import TIMEOUT, ObservatoryAddress, Unproven, ask, connect
from zesty_burrow.observe.probes import (
    FAMILIES,
    ask_name_server,
    echo,
    inbound,
    listening_ports,
    name_servers,
    own_addresses,
    padded,
    plain_request,
    real_time,
)

T = TypeVar("T")
IN_RESERVE = {4: 6, 6: 2}
"""Connections that are opened while the first question is asked."""
LEAST_WAIT = 0.15
"""Seconds."""
MOST_SOURCES = 16
"""Addresses of this machine from which STUN is asked."""


class Look:
    """Questions to one observatory (:class:`zesty_burrow.core.outside.checks.check.Questions`); from several threads.

    ``unproven``: why an answer was refused that came in its name; ``signed``: its signed answers.
    """

    def __init__(self, observatory: ObservatoryAddress, *, extended: bool) -> None:
        self._observatory = observatory
        self.extended = extended
        self.unproven = ""
        self.signed: list[str] = []
        self._idle: dict[int, list[http.client.HTTPConnection]] = {4: [], 6: []}
        self._is_closed = False
        observatory.addresses()
        if observatory.tls:
            observatory.context()
        # The checks ask at one time: each finds a connection that is open already.
        for version, count in IN_RESERVE.items():
            for _ in range(count):
                threading.Thread(target=self._reserve, args=(version,), daemon=True).start()
        began = time.monotonic()
        self.about: dict[str, Any] = self.get("/v1") or {}
        # A connection, a handshake and an answer took three round trips: a datagram's answer has the time of two.
        self._wait = min(max(2 * (time.monotonic() - began) / 3, LEAST_WAIT), TIMEOUT)

    def _reserve(self, version: int) -> None:
        endpoints = self._endpoints(version, self._observatory.port)
        with suppress(OSError, IndexError):
            connection = connect(self._observatory, endpoints[0][0])
            self._idle[version].append(connection)
            if self._is_closed:
                self.close()

    def _endpoints(self, version: int, port: int) -> list[tuple[str, int]]:
        return [(one, port) for one in self._observatory.addresses() if (":" in one) == (version == 6)]

    def close(self) -> None:
        """End its connections."""
        self._is_closed = True
        for connections in self._idle.values():
            while connections:
                connections.pop().close()

    def random(self, octets: int) -> bytes:
        """Random octets."""
        return secrets.token_bytes(octets)

    def get(self, path: str, version: int = 0, nonce: str = "") -> dict[str, Any] | None:
        """A JSON object over one address family, by default over either; None where it cannot be had.

        ``nonce``: the caller's, empty: one of its own.
        """
        if not version:
            return self.get(path, 4) or self.get(path, 6)
        for connection in self._connections(version):
            try:
                answer = ask(connection, self._observatory, path, nonce)
            except Unproven as problem:
                self.unproven = str(problem)
            except (OSError, http.client.HTTPException, ValueError):
                pass
            else:
                self._idle[version].append(connection)
                if answer is None:
                    return None
                self.signed += [answer.signed] if answer.signed else []
                return answer.document
            connection.close()
        return None

    def _connections(self, version: int) -> Iterator[http.client.HTTPConnection]:
        """One that is open already, then fresh ones to each of its addresses."""
        with suppress(IndexError):
            yield self._idle[version].pop()
        for endpoint in self._endpoints(version, self._observatory.port):
            try:
                yield connect(self._observatory, endpoint[0])
            except Unproven as problem:
                self.unproven = str(problem)
            except OSError:
                continue

    def look_up(self, names: list[str]) -> int:
        """How many of these names the system's resolver can resolve."""
        answers: list[bool] = []

        def look_up_one(name: str) -> None:
            with suppress(OSError):
                socket.getaddrinfo(name, 80, type=socket.SOCK_STREAM)
                answers.append(True)

        threads = [threading.Thread(target=look_up_one, args=(name,), daemon=True) for name in names]
        for start in range(0, len(threads), STANDARD_NAMES):
            batch = threads[start : start + STANDARD_NAMES]
            for thread in batch:
                thread.start()
            for thread in batch:
                thread.join(2 * TIMEOUT)
        return len(answers)

    def resolve(self, name: str) -> list[str]:
        """The addresses that the system's resolver has for a name, perhaps none."""
        with suppress(OSError):
            rows = socket.getaddrinfo(name, 80, type=socket.SOCK_STREAM)
            return list(dict.fromkeys(str(row[4][0]) for row in rows))
        return []

    def _credential(self) -> stun.Credential | None:
        told = self.about.get("stun_credential")
        words = [told.get(key) for key in ("username", "password")] if isinstance(told, dict) else []
        if len(words) == 2 and all(isinstance(word, str) and 0 < len(word) < 200 for word in words):
            return stun.Credential(str(words[0]), str(words[1]))
        return None

    def _first(self, version: int, port: int) -> Any:
        """One endpoint of the observatory, None where its name has none of that family."""
        return next(iter(self._endpoints(version, port)), None)

    def together(self, questions: Sequence[Callable[[], T]]) -> list[T]:
        """What several questions are answered that are asked at one time."""
        with ThreadPoolExecutor(len(questions) or 1) as pool:
            return list(pool.map(lambda question: question(), questions))

    def real_time(self, version: int, port: int) -> str:
        """This machine's address as STUN tells it; empty if there is no answer, or none that proves whose it is."""
        endpoint = self._first(version, port)
        return real_time(version, endpoint, self._credential()) if endpoint else ""

    def real_time_by_source(self, port: int) -> dict[str, str]:
        """The same for sockets that are bound to this machine's addresses, each that has an answer."""
        sources, credential = own_addresses()[:MOST_SOURCES], self._credential()
        endpoints = {version: self._first(version, port) for version in FAMILIES}

        def of(source: str) -> str:
            version = 6 if ":" in source else 4
            endpoint = endpoints[version]
            return real_time(version, endpoint, credential, source, wait=self._wait, tries=1) if endpoint else ""

        with ThreadPoolExecutor(len(sources) or 1) as pool:
            return {source: seen for source, seen in zip(sources, pool.map(of, sources), strict=True) if seen}

    def ask_name_server(self, questions: Sequence[tuple[str, int, bool]]) -> list[Reply | None] | None:
        """What the first of this machine's name servers answers."""
        servers = name_servers()
        if not servers:
            return None
        with ThreadPoolExecutor(len(questions) or 1) as pool:
            return list(pool.map(lambda one: ask_name_server(servers[0], *one), questions))

    def padded(self, version: int, port: int, sizes: Sequence[int], *, whole: bool) -> list[float | None]:
        """Seconds until padded STUN requests of these sizes were answered."""
        endpoint, credential = self._first(version, port), self._credential()
        if endpoint is None or credential is None:
            return [None] * len(sizes)
        return padded(version, endpoint, credential, sizes, whole=whole)

    def echo(self, version: int, token: bytes) -> bool:
        """Whether an ICMP echo request with a token is answered."""
        endpoint = self._first(version, 9)
        return endpoint is not None and echo(version, endpoint, token)

    def inbound(self, version: int) -> str:
        """What happens to a connection from outside to a socket that listens here."""
        return inbound(version, lambda port, word: self.get(f"/v1/inbound/{port}", version, word))

    def listening(self, version: int) -> list[int]:
        """TCP ports at which this machine listens to others."""
        return listening_ports(version)

    def plain_request(self, version: int, port: int) -> PlainExchange | None:
        """A request over HTTP without TLS, and what the observatory saw of it."""
        endpoint = self._first(version, port)
        return plain_request(endpoint, self._observatory.host) if endpoint else None
