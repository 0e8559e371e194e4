"""Looks at an observatory from inside a tunnel that has no device: STUN and one-time names, over UDP of our own."""

from __future__ import annotations

import asyncio
import http.client
import itertools
import secrets
from collections.abc import Callable
from contextlib import suppress
from ipaddress import ip_address
from typing import Any, Protocol, TypeVar

from zesty_burrow.core.dns.question import AAAA, A, build_query, read_addresses_untrusted
from zesty_burrow.core.net import Address
from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.asked.resolvers import STANDARD_NAMES, one_time_names
from zesty_burrow.core.outside.observation import Sighting
from zesty_burrow.core.outside.strangers import resolvers_in, sighting_of
from zesty_burrow.errors import OutsideError
from zesty_burrow.observe.channel import ObservatoryAddress, ask, connect
from zesty_burrow.records import dataclass

MAX_ADDRESSES = 4


T = TypeVar("T")


class InsideTunnel(Protocol):
    """A tunnel through which UDP questions go."""

    @property
    def name_servers(self) -> tuple[Address, ...]:
        """Those that the gateway handed out."""

    def own_address(self, towards: Address) -> Address | None:
        """The inner address of that family, where packets are carried there."""

    async def ask(self, to: Address, port: int, question: bytes, read: Callable[[bytes], T]) -> T | None:
        """The answer that ``read`` takes; None for silence."""


@dataclass(frozen=True, slots=True)
class Seen:
    """What a look from inside gave."""

    exit4: Sighting
    exit6: Sighting
    resolvers: tuple[Sighting, ...]
    names_asked: int
    names_answered: int
    carries_outside: bool


class Outside:
    """The observatory as this machine reaches it without the tunnel: what it knows of addresses and one-time names."""

    def __init__(self, address: ObservatoryAddress) -> None:
        self.address = address
        self.probe_zone = ""
        self.stun_port = stun.PORT
        self._host = address.host
        self._known: dict[str, asyncio.Future[Sighting]] = {}

    def prepare(self) -> None:
        """Ask what it offers. :class:`OutsideError` where it does not answer."""
        about = self._get("/v1")
        if about is None:
            raise OutsideError(
                f"the observatory {self.address.host} does not answer",
                next_step="Name another one with --observatory URL; or leave the exits out with --no-exit.",
            )
        zone, port = about.get("probe_zone"), about.get("stun_port")
        self.probe_zone = zone if isinstance(zone, str) else ""
        self.stun_port = port if isinstance(port, int) and 0 < port < 65536 else stun.PORT

    def _get(self, path: str) -> dict[str, Any] | None:
        """What it says; asked a second time where it does not answer, as one of hundreds of calls may be lost."""
        return self._get_once(path) or self._get_once(path)

    def _get_once(self, path: str) -> dict[str, Any] | None:
        # Its name is looked up once, not for each of hundreds of calls.
        try:
            connection = connect(self.address, self._host)
        except OSError:
            return None
        try:
            if connection.sock is not None:
                self._host = connection.sock.getpeername()[0]
            answer = ask(connection, self.address, path)
        except (OSError, http.client.HTTPException, ValueError):
            return None
        finally:
            connection.close()
        return answer.document if answer is not None else None

    async def describe(self, address: str) -> Sighting:
        """Operator and place of an address; asked once for all that have this exit."""
        if address not in self._known:
            self._known[address] = asyncio.ensure_future(asyncio.to_thread(self._describe, address))
        return await asyncio.shield(self._known[address])

    def _describe(self, address: str) -> Sighting:
        return sighting_of({**(self._get(f"/v1/address/{address}") or {}), "address": address})

    async def resolvers_of(self, token: str) -> tuple[Sighting, ...]:
        """Who came for the one-time names of a run."""
        told = await asyncio.to_thread(self._get, f"/v1/names/{token}")
        return resolvers_in(told or {})


async def look(link: InsideTunnel, outside: Outside, own_servers: tuple[Address, ...]) -> Seen:
    """The exit's addresses and resolvers. ``own_servers``: the profile's name servers, if it has any of its own."""
    servers = [one for one in own_servers or link.name_servers if link.own_address(one) is not None]
    targets = await _observatory_addresses(link, outside.address.host, servers)
    usable = [target for target in targets if link.own_address(target) is not None]
    nowhere = Sighting()
    if not usable:
        return Seen(nowhere, nowhere, (), 0, 0, carries_outside=not targets and bool(servers))
    seen = await asyncio.gather(*(_public_address(link, one, outside.stun_port) for one in _one_of_each(usable)))
    token, names = one_time_names(outside.probe_zone, STANDARD_NAMES, secrets.token_bytes)
    asked = names if outside.probe_zone and servers else []
    questions = zip(asked, itertools.cycle(servers), strict=False)
    answers = await asyncio.gather(*(_resolve(link, server, name, A) for name, server in questions))
    places = {"." in address: await outside.describe(address) for address in reversed(seen) if address}
    resolvers = await outside.resolvers_of(token) if asked else ()
    exits = places.get(True, nowhere), places.get(False, nowhere)
    return Seen(*exits, resolvers, len(asked), len(list(filter(None, answers))), carries_outside=True)


def _one_of_each(addresses: list[Address]) -> list[Address]:
    by_version = {address.version: address for address in reversed(addresses)}
    return [by_version[version] for version in sorted(by_version)]


async def _observatory_addresses(link: InsideTunnel, host: str, servers: list[Address]) -> list[Address]:
    with suppress(ValueError):
        return [ip_address(host)]
    for server in servers:
        rows = await asyncio.gather(*(_resolve(link, server, host, kind) for kind in (A, AAAA)))
        addresses = [address for row in rows for address in row]
        if addresses:
            return addresses
    return []


async def _resolve(link: InsideTunnel, server: Address, name: str, kind: int) -> list[Address]:
    """A or AAAA records of a name, from one server, through the tunnel, perhaps none."""
    query = build_query(secrets.randbits(16), name, kind)
    found = await link.ask(server, 53, query, lambda data: read_addresses_untrusted(data, query))
    return (found or [])[:MAX_ADDRESSES]


async def _public_address(link: InsideTunnel, target: Address, port: int) -> str:
    request, transaction = stun.binding_request(secrets.token_bytes)
    found = await link.ask(target, port, request, lambda data: stun.read_response_untrusted(data, transaction))
    return found[0] if found else ""
