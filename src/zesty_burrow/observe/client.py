"""The observer: asks an observatory what it sees, the way an application's traffic goes."""

from __future__ import annotations

import http.client
import secrets
import socket
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any

from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.checks.resolvers import STANDARD_NAMES
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import Malformed, OutsideError
from zesty_burrow.observe.channel import TIMEOUT, ObservatoryAddress, Unproven, ask, connect
from zesty_burrow.records import replace

FAMILIES = {4: socket.AF_INET, 6: socket.AF_INET6}
STUN_TRIES = 3
MOST_SIGNED = 16
"""Signed answers that are kept of one look."""

Progress = Callable[[str], None]


class Observer:
    """Looks at one observatory. ``progress`` hears in words what is being looked at."""

    def __init__(self, observatory: ObservatoryAddress, progress: Progress = lambda _: None) -> None:
        self._observatory = observatory
        self._progress = progress

    def observe(self, *, extended: bool = False) -> Observation:
        """One run of every check. An observatory that cannot be reached gives an observation that says so."""
        seen = Observation(_now())
        look = _Look(self._observatory, extended=extended)
        try:
            if not look.about:
                more = {"unproven": look.unproven} if look.unproven else {}
                return replace(seen, reached=False, more=more)
            asked = [check for check in CHECKS if check.ask is not None]
            for check in asked:
                self._progress(check.looks_at)
            with ThreadPoolExecutor(len(asked) or 1) as pool:
                answers = [pool.submit(check.ask, look, seen) for check in asked if check.ask is not None]
                for answer in answers:
                    seen = seen.with_evidence(answer.result())
            seen = _with_places(seen, self._observatory, look)
        finally:
            look.close()
        return seen if seen.ipv4.address or seen.ipv6.address else nothing_observed()


def _with_places(seen: Observation, observatory: ObservatoryAddress, look: _Look) -> Observation:
    """STUN tells an address without its place; HTTP may have told the same address with it."""
    known = {entry.address: entry for entry in (seen.ipv4, seen.ipv6)}
    real_time = tuple(known.get(entry.address, entry) for entry in seen.real_time)
    more = {**seen.more, "proof": observatory.proof, "observatory": observatory.host}
    if look.unproven:
        more["unproven"] = look.unproven
    if look.signed:
        more["signed"] = look.signed[:MOST_SIGNED]
    return replace(seen, real_time=real_time, more=more)


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def nothing_observed() -> Observation:
    """What is known from outside where nobody answers, or nobody is asked."""
    return Observation(_now(), reached=False)


class _Look:
    """Questions to one observatory (:class:`zesty_burrow.core.outside.checks.check.Questions`); from several threads.

    ``unproven``: why an answer was refused that came in its name; ``signed``: its signed answers.
    """

    def __init__(self, observatory: ObservatoryAddress, *, extended: bool) -> None:
        self._observatory = observatory
        self.extended = extended
        self.unproven = ""
        self.signed: list[str] = []
        self._idle: dict[int, list[http.client.HTTPConnection]] = {4: [], 6: []}
        self.about: dict[str, Any] = self.get("/v1") or {}

    def _endpoints(self, family: socket.AddressFamily, kind: socket.SocketKind, port: int) -> list[Any]:
        with suppress(OSError):
            rows = socket.getaddrinfo(self._observatory.host, port, family, kind)
            return [row[4] for row in rows]
        return []

    def close(self) -> None:
        """End its connections."""
        for connections in self._idle.values():
            while connections:
                connections.pop().close()

    def random(self, octets: int) -> bytes:
        """Random octets."""
        return secrets.token_bytes(octets)

    def get(self, path: str, version: int = 0) -> dict[str, Any] | None:
        """A JSON object over one address family, by default over either; None where it cannot be had."""
        if not version:
            return self.get(path, 4) or self.get(path, 6)
        for connection in self._connections(version):
            try:
                answer = ask(connection, self._observatory, path)
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
        for endpoint in self._endpoints(FAMILIES[version], socket.SOCK_STREAM, self._observatory.port):
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

    def real_time(self, version: int, port: int) -> str:
        """This machine's address as STUN tells it; empty if there is no answer, or none that proves whose it is."""
        family, credential = FAMILIES[version], self._credential()
        for endpoint in self._endpoints(family, socket.SOCK_DGRAM, port)[:1]:
            with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as channel:
                channel.connect(endpoint)
                channel.settimeout(1.0)
                for _ in range(STUN_TRIES):
                    request, transaction = stun.binding_request(secrets.token_bytes, credential)
                    channel.send(request)
                    with suppress(TimeoutError, Malformed):
                        return stun.read_response_untrusted(channel.recv(2048), transaction, credential)[0]
        return ""


def require_reached(observation: Observation, host: str) -> None:
    """:class:`OutsideError` where the observatory could not be reached, or could not prove that it is it."""
    if not observation.reached:
        raise OutsideError(
            f"the observatory {host} does not answer",
            why=str(observation.more.get("unproven", "")),
            next_step="See observatory, observatory_key and observatory_authority in the settings.",
        )
