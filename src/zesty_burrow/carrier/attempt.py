"""Tries a gateway for real: negotiates, signs in, may ask something through the tunnel; no device, no rights needed."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

from zesty_burrow.carrier.control.status import StepReport
from zesty_burrow.carrier.network.addresses import look_up, resolve, try_each, with_proxy
from zesty_burrow.carrier.sessions import Opener, OpenSession
from zesty_burrow.carrier.userspace_tunnel import UserspaceTunnel
from zesty_burrow.carrier.ways import Ways, WhatWorked, ways_to
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, GatewayError
from zesty_burrow.protocols.session import (
    Down,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    Secrets,
    Step,
    StepDone,
    Up,
)

Inside = Callable[[UserspaceTunnel], Awaitable[None]]
"""What is to be done through the tunnel while it is up."""
STEPS = tuple(Step)


class Attempt:
    """One profile, tried; ``on_step`` is called with each step up to the sign-in.

    ``over``: protocol and transport, those that were answered once it is known; ``suites``: what was negotiated so far;
    ``findings``: what was noticed; ``round_trip``: seconds of the quickest
    answer.
    """

    def __init__(
        self,
        profile: Profile,
        secrets: Secrets,
        timeout: float,
        on_step: Callable[[StepReport], None],
        inside: Inside | None = None,
    ) -> None:
        self.suites: tuple[NegotiatedSuite, ...] = ()
        self.findings: tuple[Finding, ...] = ()
        self.round_trip = float("inf")
        self._profile, self._secrets = profile, secrets
        self._timeout, self._on_step = timeout, on_step
        self.over = profile.over
        self._beside: list[str] = []
        self._inside = inside
        self._last = 0.0
        self._next = STEPS[0]

    def run(self) -> str:
        """:meth:`go` by itself."""
        return asyncio.run(self.go())

    async def go(self) -> str:
        """The gateway's address once it has accepted the sign-in. Raises a ``BurrowError`` with its step."""
        try:
            return await self._go()
        except BurrowError as error:
            error.step = str(self._next)
            raise

    def _step(self, step: Step, detail: str) -> None:
        now = asyncio.get_running_loop().time()
        self._on_step(StepReport(str(step), now - self._last, detail))
        self._last, self._next = now, STEPS[STEPS.index(step) + 1]

    async def _go(self) -> str:
        self._last = asyncio.get_running_loop().time()
        addresses = await asyncio.to_thread(resolve, self._profile)
        self._step(Step.RESOLVE, ", ".join(addresses))
        # Several transports are tried at all addresses together; one transport at one after the other.
        count = 1 if len(self._profile.variants) > 1 else len(addresses)
        self._beside = addresses[count:]
        return await try_each(addresses[:count], self._try)

    async def _try(self, address: str, origin: str) -> str:
        wake = asyncio.Event()
        ways = Ways(Opener(wake, self._timeout, frozenset(), marked=False), WhatWorked(None))
        targets = [address, *([] if origin else self._beside)]
        profile = await asyncio.to_thread(with_proxy, self._profile, look_up)
        opened = await ways.open(ways_to(profile, targets), self._secrets, origin)
        self.over = opened.profile.over
        try:
            granted = await self._wait(opened, wake)
            if self._inside is not None:
                opened.io.path = tunnel = UserspaceTunnel(opened.tunnel(granted.channel), granted)
                await self._inside(tunnel)
        finally:
            self.round_trip = min(self.round_trip, opened.session.round_trip)
            # It was granted and is not wanted any more: say so, and wait for no answer.
            opened.say_goodbye()
            opened.dispose()
        return opened.session.peer[0]

    async def _wait(self, opened: OpenSession, wake: asyncio.Event) -> Up:
        """Until the tunnel is up. Raises what keeps it from that."""
        while True:
            await wake.wait()
            wake.clear()
            for event in opened.take_events():
                if isinstance(event, StepDone):
                    self._step(event.step, event.detail)
                elif isinstance(event, Negotiated):
                    self.suites = event.suites
                elif isinstance(event, Noticed):
                    self.findings = (*self.findings, event.finding)
                elif isinstance(event, Up):
                    return event
                elif isinstance(event, Down):
                    raise event.error or GatewayError("the gateway ended the attempt", why=event.reason)
