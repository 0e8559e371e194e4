"""A phone's built-in client: this program's own sessions, with a tunnel device and routes, and without a guard.

What the tunnel does not carry goes beside it, as on a phone: such leaks are real here, and the check page finds them.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from pathlib import Path

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.options import FAST_PATH
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.core.profile import DEFAULT_MTU, Profile
from zesty_burrow.errors import BurrowError, GatewayError, StateError
from zesty_burrow.host.netlink import RT_TABLE_MAIN, Netlink, Route
from zesty_burrow.host.tun import TunDevice, open_tun
from zesty_burrow.protocols.session import ChannelChanged, Down, Event, Moved, Rekeyed, Secrets, SessionRequest, Up

DEVICE, PATIENCE = "vpn", 5.0
"""The tunnel device's first name; seconds to wait for an answer."""
HALVES = {4: ("0.0.0.0/1", "128.0.0.0/1"), 6: ("::/1", "8000::/1")}
"""Nearer than the default route, which stays."""
RESOLVERS = Path("/etc/resolv.conf")


class BuiltInClient:
    """One tunnel at a time, in the running event loop. ``clock``: what certificates are judged by."""

    def __init__(self, clock: Callable[[], datetime]) -> None:
        self._clock = clock
        self._opened: OpenSession | None = None
        self._device: TunDevice | None = None
        self._path: DataPath | None = None
        self._keeping: asyncio.Task[None] | None = None
        self._outer: Route | None = None
        self._resolvers = ""
        self.why = ""
        """Why the last tunnel has ended by itself; empty where it has not."""

    @property
    def is_on(self) -> bool:
        """Whether a tunnel is up."""
        return self._device is not None

    async def switch_on(self, profile: Profile, secrets: Secrets) -> None:
        """Until the tunnel is up. Raises :class:`BurrowError`, and nothing is left then."""
        if self.is_on:
            raise StateError("the tunnel is on already", next_step="Switch it off first.")
        self.why = ""
        wake = asyncio.Event()
        try:
            address = await asyncio.to_thread(_look_up, profile.gateway.addresses[0])
            request = SessionRequest(address, secrets, self._clock(), PATIENCE)
            self._opened = OpenSession(profile, request, wake)
            self._opened.start()
            granted = await self._granted(self._opened, wake)
            self._carry(self._opened, granted, wake)
        except BaseException:
            self.switch_off()
            raise
        self._keeping = asyncio.ensure_future(self._keep(self._opened, wake))

    @staticmethod
    async def _granted(opened: OpenSession, wake: asyncio.Event) -> Up:
        while True:
            await wake.wait()
            wake.clear()
            for event in opened.take_events():
                if isinstance(event, Up):
                    return event
                if isinstance(event, Down):
                    raise event.error or GatewayError("the gateway has ended the attempt", why=event.reason)

    def _carry(self, opened: OpenSession, granted: Up, wake: asyncio.Event) -> None:
        self._device = device = open_tun(DEVICE)
        network = granted.network
        peer = opened.session.peer[0]
        with Netlink() as netlink:
            way = next((route for route in netlink.routes(RT_TABLE_MAIN) if _is_default(route, peer)), None)
            netlink.set_link(device.name, state="up", mtu=DEFAULT_MTU)
            for own in network.addresses:
                netlink.add_address(device.name, str(own))
            if way is not None:
                self._outer = Route(f"{peer}/{128 if ':' in peer else 32}", RT_TABLE_MAIN, way.device, way.gateway)
                netlink.add_route(self._outer)
            for version in {own.version for own in network.addresses}:
                for half in HALVES[version]:
                    netlink.add_route(Route(half, RT_TABLE_MAIN, device.name))
        if network.name_servers:
            self._resolvers = RESOLVERS.read_text()
            RESOLVERS.write_text("".join(f"nameserver {name_server}\n" for name_server in network.name_servers))
        self._path = path = DataPath(device, DEFAULT_MTU, disabled=frozenset((FAST_PATH,)), wake=wake)
        path.add(opened.tunnel(granted.channel))
        opened.io.path = path
        path.start_reading()

    async def _keep(self, opened: OpenSession, wake: asyncio.Event) -> None:
        """Follow the session until it ends."""
        try:
            while True:
                await wake.wait()
                wake.clear()
                for event in opened.take_events():
                    if isinstance(event, Down):
                        raise event.error or GatewayError("the gateway has ended the tunnel", why=event.reason)
                    self._follow(event)
                if self._path is not None:
                    self._path.raise_failure()
                opened.io.handle_timer()
        except BurrowError as problem:
            self.why = str(problem)
            self._keeping = None
            self.switch_off()

    def _follow(self, event: Event) -> None:
        if isinstance(event, ChannelChanged | Rekeyed | Moved) and self._path is not None:
            self._path.refresh()

    def switch_off(self) -> None:
        """End the tunnel, if there is one, and restore routes and resolvers."""
        if self._keeping is not None:
            self._keeping.cancel()
            self._keeping = None
        if self._path is not None:
            self._path.close()
            self._path = None
        if self._opened is not None:
            self._opened.say_goodbye()
            self._opened.dispose()
            self._opened = None
        if self._outer is not None:
            with suppress(OSError, BurrowError), Netlink() as netlink:
                netlink.delete_route(self._outer)
            self._outer = None
        if self._device is not None:
            self._device.close()
            self._device = None
        if self._resolvers:
            RESOLVERS.write_text(self._resolvers)
            self._resolvers = ""


def _look_up(name: str) -> str:
    try:
        rows = socket.getaddrinfo(name, 0, type=socket.SOCK_DGRAM)
    except OSError as problem:
        raise GatewayError(f"{name} is not found", why=str(problem)) from None
    return str(rows[0][4][0])


def _is_default(route: Route, peer: str) -> bool:
    return route.destination in ("0.0.0.0/0", "::/0") and (":" in route.destination) == (":" in peer)
