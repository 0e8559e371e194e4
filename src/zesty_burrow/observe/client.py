"""The observer: asks an observatory what it sees, the way an application's traffic goes."""

from __future__ import annotations

import http.client
import json
import secrets
import socket
import threading
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.checks.resolvers import STANDARD_NAMES
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import Malformed, OutsideError, UsageError
from zesty_burrow.records import dataclass, replace

FAMILIES = {4: socket.AF_INET, 6: socket.AF_INET6}
MAX_BODY = 1 << 20
TIMEOUT = 5.0
STUN_TRIES = 3

Progress = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class ObservatoryAddress:
    """An observatory's URL taken apart."""

    host: str
    port: int = 80

    @classmethod
    def of(cls, url: str) -> ObservatoryAddress:
        """From ``http://HOST[:PORT]``; :class:`UsageError` for anything else."""
        try:
            parts = urlsplit(url)
            port = parts.port or 80
        except ValueError:
            raise UsageError(f"{url!r} is not an observatory's address", why="it is no URL") from None
        if parts.scheme != "http" or not parts.hostname or parts.path not in ("", "/") or parts.query:
            raise UsageError(f"{url!r} is not an observatory's address", why="http://HOST or http://HOST:PORT is")
        return cls(parts.hostname, port)


class Observer:
    """Looks at one observatory. ``progress`` hears in words what is being looked at."""

    def __init__(self, observatory: ObservatoryAddress, progress: Progress = lambda _: None) -> None:
        self._observatory = observatory
        self._progress = progress

    def observe(self, *, extended: bool = False) -> Observation:
        """One run of every check. An observatory that cannot be reached gives an observation that says so."""
        seen = Observation(_now())
        questions = _Look(self._observatory, extended=extended)
        if not questions.about:
            return replace(seen, reached=False)
        for check in CHECKS:
            if check.ask is not None:
                self._progress(check.looks_at)
                seen = seen.with_evidence(check.ask(questions, seen))
        return seen if seen.ipv4.address or seen.ipv6.address else nothing_observed()


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def nothing_observed() -> Observation:
    """What is known from outside where nobody answers, or nobody is asked."""
    return Observation(_now(), reached=False)


class _Look:
    """Questions to one observatory (:class:`zesty_burrow.core.outside.checks.check.Questions`)."""

    def __init__(self, observatory: ObservatoryAddress, *, extended: bool) -> None:
        self._observatory = observatory
        self.extended = extended
        self.about: dict[str, Any] = self.get("/v1") or {}

    def _endpoints(self, family: socket.AddressFamily, kind: socket.SocketKind, port: int) -> list[Any]:
        with suppress(OSError):
            rows = socket.getaddrinfo(self._observatory.host, port, family, kind)
            return [row[4] for row in rows]
        return []

    def random(self, octets: int) -> bytes:
        """Random octets."""
        return secrets.token_bytes(octets)

    def get(self, path: str, version: int = 0) -> dict[str, Any] | None:
        """A JSON object over one address family, by default over either; None where it cannot be had."""
        if not version:
            return self.get(path, 4) or self.get(path, 6)
        for endpoint in self._endpoints(FAMILIES[version], socket.SOCK_STREAM, self._observatory.port):
            connection = http.client.HTTPConnection(endpoint[0], endpoint[1], timeout=TIMEOUT)
            try:
                connection.request("GET", path, headers={"Host": self._observatory.host})
                response = connection.getresponse()
                body = response.read(MAX_BODY)
                if response.status == 200:
                    document = json.loads(body)
                    return document if isinstance(document, dict) else None
            except (OSError, http.client.HTTPException, ValueError):
                continue
            finally:
                connection.close()
        return None

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

    def real_time(self, version: int, port: int) -> str:
        """This machine's address as STUN tells it; empty if there is no answer."""
        family = FAMILIES[version]
        for endpoint in self._endpoints(family, socket.SOCK_DGRAM, port)[:1]:
            with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as channel:
                channel.connect(endpoint)
                channel.settimeout(1.0)
                for _ in range(STUN_TRIES):
                    request, transaction = stun.binding_request(secrets.token_bytes)
                    channel.send(request)
                    with suppress(TimeoutError, Malformed):
                        return stun.read_response_untrusted(channel.recv(2048), transaction)[0]
        return ""


def require_reached(observation: Observation, url: str) -> None:
    """:class:`OutsideError` where the observatory could not be reached."""
    if not observation.reached:
        raise OutsideError(f"the observatory {url} does not answer")
