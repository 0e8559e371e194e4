"""The ways to one gateway: its addresses of both families, and the transports that a profile allows.

Where there are several, sessions are begun one after the other, a moment apart, and the first that is answered goes on
(RFC 8305 §5). What was answered in a network is tried first the next time in the same one.
"""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable, Sequence
from contextlib import suppress
from itertools import zip_longest
from pathlib import Path

from zesty_burrow.carrier.sessions import Opener, OpenSession
from zesty_burrow.core.net import Address
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, GatewayError, GatewayUnreachable
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.protocols.session import Down, Secrets, Step, StepDone
from zesty_burrow.records import dataclass

STAGGER = 0.25
"""Seconds between two beginnings (RFC 8305 §5: the Connection Attempt Delay)."""
MAX_WAYS, MAX_REMEMBERED = 8, 200


@dataclass(frozen=True, slots=True)
class Way:
    """``profile``: with one transport."""

    address: str
    profile: Profile

    def __str__(self) -> str:
        return f"{self.address} over {self.profile.settings.over()}"


def ways_to(profile: Profile, addresses: Sequence[str], first: str = "") -> list[Way]:
    """All of them, families in turn (RFC 8305 §4), by each transport; ``first``: the transport that worked before."""
    own = [[one for one in addresses if (":" in one) is wanted] for wanted in (True, False)]
    if addresses and ":" not in addresses[0]:
        own.reverse()
    mixed = [one for pair in zip_longest(*own) for one in pair if one is not None]
    variants = sorted(profile.variants, key=lambda one: one.settings.over() != first)
    return [Way(address, variant) for address in mixed for variant in variants][:MAX_WAYS]


class WhatWorked:
    """Which transport was answered, by network, gateway and proxy; a file of the program's own."""

    def __init__(self, path: Path | None) -> None:
        self._path = path

    def get(self, network: str, profile: Profile) -> str:
        """The transport in words; empty where nothing is known."""
        found = self._read().get(_key(network, profile))
        return found if isinstance(found, str) else ""

    def put(self, network: str, profile: Profile, over: str) -> None:
        """Remember it, where there was a choice. Where that cannot be, it is found out again."""
        if self._path is None or len(profile.variants) < 2 or self.get(network, profile) == over:
            return
        key = _key(network, profile)
        rows = {other: value for other, value in self._read().items() if other != key}
        rows[key] = over
        kept = dict(list(rows.items())[-MAX_REMEMBERED:])
        with suppress(OSError):
            replace_file(self._path, json.dumps(kept, indent=1).encode(), 0o600)

    def _read(self) -> dict[str, object]:
        if self._path is None:
            return {}
        try:
            found = json.loads(self._path.read_text())
        except (OSError, ValueError):
            return {}
        return found if isinstance(found, dict) else {}


def _key(network: str, profile: Profile) -> str:
    by = f" by {profile.proxy.kind} port {profile.proxy.port}" if profile.proxy is not None else ""
    return f"{network} {profile.gateway.addresses[0]} {profile.tunnel.protocol}{by}"


@dataclass(slots=True)
class Ways:
    """Opens the session that goes on. ``told``: what was found out on the way, for the user; empty if nothing.

    ``beside``: addresses that are tried together with the present one.
    """

    opener: Opener
    worked: WhatWorked
    told: str = ""
    beside: Sequence[str] = ()

    async def open(
        self,
        ways: Sequence[Way],
        secrets: Secrets,
        origin: str = "",
        wanted: tuple[Address, ...] = (),
        is_over: Callable[[], bool] = lambda: False,
    ) -> OpenSession:
        """The session that was answered first; where there is one way alone, its session, whatever comes of it.

        ``is_over``: somebody wants the end. Raises :class:`GatewayUnreachable` where no way was answered, and whatever
        else a session has failed with before it was reached.
        """
        self.told = ""
        begun: list[tuple[Way, OpenSession]] = []
        failed: list[tuple[Way, BurrowError]] = []
        waiting = list(ways)
        clock = asyncio.get_running_loop().time
        due = began = clock()
        try:
            while True:
                if waiting and (clock() >= due or not begun):
                    way, due = waiting.pop(0), clock() + STAGGER
                    one = self.opener.open(way.profile, secrets, way.address, origin, wanted)
                    begun.append((way, one))
                    one.start()
                if len(ways) == 1 or is_over():
                    return self._choose(begun, begun[0][1])
                for way, one in list(begun):
                    if _is_reached(one):
                        self._tell(way, ways, failed, clock() - began)
                        return self._choose(begun, one)
                    if (problem := _failure(one)) is not None:
                        begun.remove((way, one))
                        failed.append((way, problem))
                        one.dispose()
                if not begun and not waiting:
                    raise _no_way(failed)
                await self._wait(due - clock() if waiting and begun else None, bool(begun))
        except BaseException:
            for _, one in begun:
                one.dispose()
            raise

    async def _wait(self, seconds: float | None, is_begun: bool) -> None:
        if not is_begun:
            return
        with suppress(TimeoutError):
            await asyncio.wait_for(self.opener.wake.wait(), None if seconds is None else max(seconds, 0.0))
        self.opener.wake.clear()

    def _choose(self, begun: list[tuple[Way, OpenSession]], chosen: OpenSession) -> OpenSession:
        """The others are ended: none of them has been granted anything."""
        for _, one in begun:
            if one is not chosen:
                one.dispose()
        begun.clear()
        # What it has reported is still there for its owner.
        self.opener.wake.set()
        return chosen

    def _tell(self, way: Way, ways: Sequence[Way], failed: list[tuple[Way, BurrowError]], seconds: float) -> None:
        before = ways[: list(ways).index(way)]
        if not before:
            self.told = f"over {way.profile.settings.over()}"
            return
        refused = {str(other): problem.why or problem.what for other, problem in failed}
        others = [f"{other}: {refused.get(str(other), f'no answer in {seconds:.2f} s')}" for other in before]
        self.told = f"over {way.profile.settings.over()} ({'; '.join(others)})"


def _is_reached(session: OpenSession) -> bool:
    return any(isinstance(event, StepDone) and event.step is Step.REACH for event in session.io.events)


def _failure(session: OpenSession) -> BurrowError | None:
    """Why a session has ended. Raises what the program itself has done wrong."""
    if session.io.failure is not None:
        try:
            session.io.take_events()
        except GatewayError as problem:
            # As a proxy that does not carry this transport.
            return problem
    down = next((event for event in session.io.events if isinstance(event, Down)), None)
    if down is None:
        return None
    if (by_proxy := session.proxy_failure(down)) is not None:
        return by_proxy
    if down.error is None:
        return GatewayUnreachable("the gateway ended the attempt", why=down.reason)
    return down.error if isinstance(down.error, BurrowError) else GatewayUnreachable(str(down.error))


def _no_way(failed: Sequence[tuple[Way, BurrowError]]) -> BurrowError:
    other = next((problem for _, problem in failed if not isinstance(problem, GatewayUnreachable)), None)
    if other is not None:
        return other
    why = "; ".join(f"{way}: {problem.why or problem.what}" for way, problem in failed)
    step = "Try another place, and ask what this network lets out."
    return GatewayUnreachable("the gateway does not answer by any way", why=why, next_step=step)
