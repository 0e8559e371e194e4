"""What each host of the lab does once its wires are in place."""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import ssl
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from zesty_burrow.core.outside.geofeed import AddressBook, read_geofeed_untrusted, read_operators_untrusted
from zesty_burrow.errors import BurrowError
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority, make_key, use_certificate
from zesty_burrow.lab.devices.box import Box
from zesty_burrow.lab.devices.laptop import Laptop
from zesty_burrow.lab.devices.phone.handset import Handset
from zesty_burrow.lab.gateways.gateway import GatewayHost
from zesty_burrow.lab.local_network.conditions import Conditions
from zesty_burrow.lab.local_network.router import LocalNetwork, Router
from zesty_burrow.lab.portal import Portal
from zesty_burrow.lab.resolver import Resolver
from zesty_burrow.observe.observatory.server import Observatory, ObservatoryConfig, zone_of
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Secrets:
    """What the provider's hosts share."""

    authority: Authority
    password: str
    office_authority: Authority
    portal_password: str
    shared_key: str


Calls = dict[str, Callable[[dict[str, Any]], dict[str, Any] | Awaitable[dict[str, Any]]]]


async def start_role(name: str, secrets: Secrets, folder: Path) -> Calls:
    """Start a host's services; the calls that the lab may make to it. ``folder``: the lab's."""
    if name in story.PLACE_BY_NAME:
        calls = _gateway(name, secrets)
        if name == story.OFFICE.name:
            with Netlink() as netlink:
                for address in (story.OFFICE_RESOLVER, story.OFFICE_FILES):
                    netlink.add_address("lo", f"{address}/32")
            own: dict[str, tuple[str, ...]] = {f"files.{story.OFFICE_SUFFIX}": (story.OFFICE_FILES,)}
            tls = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            use_certificate(tls, secrets.office_authority, make_key("ecdsa"), story.OFFICE_ENCRYPTED_RESOLVER)
            await Resolver((story.OFFICE_RESOLVER,), own, story.OFFICE.outer).start(tls)
        return calls
    if name == story.ROUTER:
        await Resolver((story.ISP_RESOLVER4, story.ISP_RESOLVER6), zone_key=folder / story.ZONE_KEY).start()
        return await _router()
    elif name == "resolver":
        await Resolver(
            (story.RESOLVER4, story.RESOLVER6), checks_signatures=True, zone_key=folder / story.ZONE_KEY
        ).start()
    elif name == "observatory":
        await Observatory(observatory_config(folder / name)).start()
    elif name == story.PORTAL_HOST:
        return _portal(secrets)
    elif name == story.LAPTOP:
        return _laptop(folder / name)
    elif name in story.PHONES:
        return Handset(name, folder / name).calls()
    elif name == story.BOX:
        box = Box(folder / name)
        return {"faults": box.set_faults, "status": lambda _: box.status(), "press": box.press}
    return {}


def _laptop(home: Path) -> Calls:
    laptop = Laptop(home)
    laptop.start()

    def set_faults(request: dict[str, Any]) -> dict[str, Any]:
        laptop.set_faults(frozenset(request["faults"]))
        return laptop.status()

    return {"faults": set_faults, "status": lambda _: laptop.status()}


async def _router() -> Calls:
    wires = [link for link in story.links() if link.one.device in story.LOCAL_NETWORKS]
    router = Router(LocalNetwork(link.one, link.other) for link in wires)
    await router.start()

    def set_faults(request: dict[str, Any]) -> dict[str, Any]:
        router.set_faults(frozenset(request["faults"]))
        return router.status()

    def set_conditions(request: dict[str, Any]) -> dict[str, Any]:
        router.set_conditions(Conditions(**request["conditions"]))
        return router.status()

    return {"faults": set_faults, "wire": set_conditions, "status": lambda _: router.status()}


def _portal(secrets: Secrets) -> Calls:
    portal = Portal(secrets.authority, secrets.password, secrets.portal_password)
    portal.start()

    def set_faults(request: dict[str, Any]) -> dict[str, Any]:
        portal.set_faults(frozenset(request["faults"]))
        return portal.status()

    return {"faults": set_faults, "status": lambda _: portal.status()}


def _own_kit(secrets: Secrets, name: str) -> tuple[Authority, dict[str, str]]:
    """Whose authority a gateway is under, and its accounts at the start: the office has none yet."""
    if name == story.OFFICE.name:
        return secrets.office_authority, {}
    return secrets.authority, {story.ACCOUNT: secrets.password}


def _gateway(name: str, secrets: Secrets) -> Calls:
    host = GatewayHost(story.PLACE_BY_NAME[name], *_own_kit(secrets, name), secrets.shared_key)
    host.start()

    def set_faults(request: dict[str, Any]) -> dict[str, Any]:
        host.set_faults(frozenset(request["faults"]))
        return host.status()

    def then_status(action: Callable[[], None]) -> Callable[[dict[str, Any]], dict[str, Any]]:
        def call(_: dict[str, Any]) -> dict[str, Any]:
            action()
            return host.status()

        return call

    def add_account(request: dict[str, Any]) -> dict[str, Any]:
        account, sign_in = str(request["account"]), str(request["sign_in"])
        return {"files": host.add_account(account, sign_in, everything=bool(request["everything"]))}

    return {
        "faults": set_faults,
        "status": lambda _: host.status(),
        "end": then_status(host.end_all),
        "restart": then_status(host.forget_all),
        "redirect": then_status(host.redirect_all),
        "rekey": then_status(lambda: host.rekey_all(ike=False)),
        "rekey-ike": then_status(lambda: host.rekey_all(ike=True)),
        "probe": then_status(host.probe_all),
        "reset": then_status(host.drop_connections),
        "account": add_account,
    }


def observatory_config(home: Path) -> ObservatoryConfig:
    """The lab's observatory; ``home``: where its certificate is."""
    files = home / "certificate.pem", home / "key.pem"
    own = (story.OBSERVATORY4, story.OBSERVATORY6)
    zone = zone_of(story.OBSERVATORY_NAME, own, f"ns.{story.OBSERVATORY_NAME}")
    book = AddressBook(read_geofeed_untrusted(story.geofeed()), read_operators_untrusted(story.operators()))
    keys = home.parent / story.OBSERVATORY_KEY, home.parent / story.ZONE_KEY
    return ObservatoryConfig(own, zone, book, certificate=files, signing_key=keys[0], zone_key=keys[1])


async def serve_host(name: str, secrets: Secrets, keeper: Path) -> None:
    """Start the services, report to the keeper, and answer its calls until it goes."""
    try:
        calls = await start_role(name, secrets, keeper.parent)
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
                if isinstance(answer, Awaitable):
                    answer = await answer
            except BurrowError as problem:
                # A call that fails must not take the host down with it.
                answer = {"error": f"{name}: {problem.what}", "why": problem.why, "next_step": problem.next_step}
            writer.write(json.dumps(answer).encode() + b"\n")
            await writer.drain()


def close_inherited(keep: set[int]) -> None:
    """Close what a forked host has inherited and must not hold open."""
    for entry in Path("/proc/self/fd").iterdir():
        number = int(entry.name)
        if number > 2 and number not in keep:
            with contextlib.suppress(OSError):
                socket.close(number)
