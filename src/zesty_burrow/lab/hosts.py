"""What each host of the lab does once its wires are in place."""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zesty_burrow.core.dns_zone import Zone
from zesty_burrow.core.geofeed import AddressBook, read_geofeed_untrusted, read_operators_untrusted
from zesty_burrow.errors import BurrowError
from zesty_burrow.host.netfilter import translate_source
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority
from zesty_burrow.lab.gateway import GatewayHost
from zesty_burrow.lab.resolver import Resolver
from zesty_burrow.observe.server import Observatory, ObservatoryConfig


@dataclass(frozen=True, slots=True)
class Secrets:
    """What the provider's hosts share."""

    authority: Authority
    password: str


Calls = dict[str, Callable[[dict[str, Any]], dict[str, Any]]]


async def start_role(name: str, secrets: Secrets) -> Calls:
    """Start a host's services; the calls that the lab may make to it."""
    if name in story.PLACE_BY_NAME:
        return _gateway(name, secrets)
    if name == "cobblewire":
        translate_source("cottage", story.COTTAGE_PUBLIC4)
        await Resolver((story.ISP_RESOLVER4, story.ISP_RESOLVER6)).start()
    elif name == "resolver":
        await Resolver((story.RESOLVER4, story.RESOLVER6)).start()
    elif name == "observatory":
        await Observatory(observatory_config()).start()
    return {}


def _gateway(name: str, secrets: Secrets) -> Calls:
    host = GatewayHost(story.PLACE_BY_NAME[name], secrets.authority, secrets.password)
    host.start()

    def set_faults(request: dict[str, Any]) -> dict[str, Any]:
        host.set_faults(frozenset(request["faults"]))
        return host.status()

    def end_all(_: dict[str, Any]) -> dict[str, Any]:
        host.end_all()
        return host.status()

    def probe_all(_: dict[str, Any]) -> dict[str, Any]:
        host.probe_all()
        return host.status()

    return {"faults": set_faults, "status": lambda _: host.status(), "end": end_all, "probe": probe_all}


def observatory_config() -> ObservatoryConfig:
    """The lab's observatory."""
    zone = Zone(
        story.OBSERVATORY_NAME,
        {story.OBSERVATORY_NAME: (story.OBSERVATORY4, story.OBSERVATORY6)},
        story.PROBE_ZONE,
        (story.OBSERVATORY4, story.OBSERVATORY6),
        f"ns.{story.OBSERVATORY_NAME}",
    )
    book = AddressBook(read_geofeed_untrusted(story.geofeed()), read_operators_untrusted(story.operators()))
    return ObservatoryConfig((story.OBSERVATORY4, story.OBSERVATORY6), zone, book)


async def serve_host(name: str, secrets: Secrets, keeper: Path) -> None:
    """Start the services, report to the keeper, and answer its calls until it goes."""
    try:
        calls = await start_role(name, secrets)
        report: dict[str, Any] = {"hello": name}
    except Exception as problem:
        calls, report = {}, {"hello": name, "error": f"{type(problem).__name__}: {problem}"}
    reader, writer = await asyncio.open_unix_connection(str(keeper))
    writer.write(json.dumps(report).encode() + b"\n")
    with contextlib.suppress(OSError):
        while line := await reader.readline():
            request = json.loads(line)
            call = calls.get(request["call"])
            try:
                answer = call(request) if call else {}
            except BurrowError as problem:
                # A call that fails must not take the host down with it.
                answer = {"error": f"{name}: {problem}"}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()


def close_inherited(keep: set[int]) -> None:
    """Close what a forked host has inherited and must not hold open."""
    for entry in Path("/proc/self/fd").iterdir():
        number = int(entry.name)
        if number > 2 and number not in keep:
            with contextlib.suppress(OSError):
                socket.close(number)
