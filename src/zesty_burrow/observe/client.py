"""The observer: asks an observatory what it sees, the way an application's traffic goes."""

from __future__ import annotations

import http.client
import json
import secrets
import socket
import threading
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.leak import Observation, Sighting
from zesty_burrow.errors import Malformed, OutsideError, UsageError

STANDARD_NAMES, EXTENDED_NAMES = 6, 36
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
        """One run. An observatory that cannot be reached gives an observation that says so."""
        now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        self._progress("public addresses")
        found = {family: self._sighting(family) for family in (socket.AF_INET, socket.AF_INET6)}
        about = self._about()
        if about is None or not any(sighting.address for sighting in found.values()):
            return Observation(now, reached=False)
        self._progress("resolvers")
        asked, answered, resolvers = self._resolvers(
            str(about.get("probe_zone", "")), EXTENDED_NAMES if extended else STANDARD_NAMES
        )
        self._progress("addresses that real-time applications reveal")
        port = about.get("stun_port")
        real_time = [
            seen
            for family in (socket.AF_INET, socket.AF_INET6)
            if (seen := self._real_time(family, port if isinstance(port, int) else stun.PORT, found))
        ]
        return Observation(
            now,
            found[socket.AF_INET],
            found[socket.AF_INET6],
            tuple(real_time),
            resolvers,
            asked,
            answered,
        )

    def _endpoints(self, family: socket.AddressFamily, kind: socket.SocketKind, port: int) -> list[Any]:
        with suppress(OSError):
            rows = socket.getaddrinfo(self._observatory.host, port, family, kind)
            return [row[4] for row in rows]
        return []

    def _get(self, path: str, family: socket.AddressFamily) -> dict[str, Any] | None:
        """A JSON document over one address family; None where it cannot be had."""
        for endpoint in self._endpoints(family, socket.SOCK_STREAM, self._observatory.port):
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

    def _sighting(self, family: socket.AddressFamily) -> Sighting:
        document = self._get("/v1/address", family)
        return sighting_of(document) if document else Sighting()

    def _about(self) -> dict[str, Any] | None:
        return self._get("/v1", socket.AF_INET) or self._get("/v1", socket.AF_INET6)

    def _resolvers(self, zone: str, count: int) -> tuple[int, int, tuple[Sighting, ...]]:
        """Look one-time names up through the system's resolver, then ask who came for them."""
        if not zone:
            return 0, 0, ()
        token = secrets.token_hex(12)
        answers: list[bool] = []

        def look_up(name: str) -> None:
            with suppress(OSError):
                socket.getaddrinfo(name, 80, type=socket.SOCK_STREAM)
                answers.append(True)

        names = [f"n{number}-{secrets.token_hex(4)}.{token}.{zone}" for number in range(1, count + 1)]
        threads = [threading.Thread(target=look_up, args=(name,), daemon=True) for name in names]
        for start in range(0, len(threads), STANDARD_NAMES):
            batch = threads[start : start + STANDARD_NAMES]
            for thread in batch:
                thread.start()
            for thread in batch:
                thread.join(2 * TIMEOUT)
        path = f"/v1/names/{token}"
        document = self._get(path, socket.AF_INET) or self._get(path, socket.AF_INET6) or {}
        return count, len(answers), resolvers_in(document)

    def _real_time(
        self, family: socket.AddressFamily, port: int, known: dict[socket.AddressFamily, Sighting]
    ) -> Sighting | None:
        """The address that STUN tells, with the place if HTTP told the same address."""
        for endpoint in self._endpoints(family, socket.SOCK_DGRAM, port)[:1]:
            with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as channel:
                channel.connect(endpoint)
                channel.settimeout(1.0)
                for _ in range(STUN_TRIES):
                    request, transaction = stun.binding_request(secrets.token_bytes)
                    channel.send(request)
                    with suppress(TimeoutError, Malformed):
                        address, _ = stun.read_response_untrusted(channel.recv(2048), transaction)
                        return next((one for one in known.values() if one.address == address), Sighting(address))
        return None


def resolvers_in(document: dict[str, Any]) -> tuple[Sighting, ...]:
    """Who asked for the names of a run, by what an observatory tells of it; each once, by address."""
    found: dict[str, Sighting] = {}
    questions = document.get("questions", [])
    for row in questions if isinstance(questions, list) else []:
        if isinstance(row, dict) and isinstance(row.get("resolver"), str):
            found.setdefault(row["resolver"], sighting_of({**row, "address": row["resolver"]}))
    return tuple(found[address] for address in sorted(found))


def sighting_of(document: dict[str, Any]) -> Sighting:
    """A sighting from what an observatory tells; what is not text is left out, what is long is cut."""
    values = {}
    for key in ("address", "operator", "country", "city"):
        value = document.get(key, "")
        text = value if isinstance(value, str) else ""
        values[key] = "".join(letter for letter in text if letter.isprintable())[:100]
    return Sighting(**values)


def require_reached(observation: Observation, url: str) -> None:
    """:class:`OutsideError` where the observatory could not be reached."""
    if not observation.reached:
        raise OutsideError(f"the observatory {url} does not answer")
