"""Tries a gateway for real: negotiates, signs in, may ask something through the tunnel; no device, no rights needed."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime

from zesty_burrow.carrier.control.status import StepReport
from zesty_burrow.carrier.network.addresses import resolve, try_each
from zesty_burrow.carrier.sessions import OpenSession
from zesty_burrow.carrier.userspace_tunnel import UserspaceTunnel
from zesty_burrow.core.finding import Finding
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError, GatewayError
from zesty_burrow.protocols.session import (
    Down,
    Negotiated,
    NegotiatedSuite,
    Noticed,
    Secrets,
    SessionRequest,
    Step,
    StepDone,
    Up,
)

Inside = Callable[[UserspaceTunnel], Awaitable[None]]
"""What is to be done through the tunnel while it is up."""
STEPS = tuple(Step)


class Attempt:
    """One profile, tried; ``on_step`` is called with each step up to the sign-in.

    ``suites``: what was negotiated so far; ``findings``: what was noticed; ``round_trip``: seconds of the quickest
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
        return await try_each(addresses, self._try)

    async def _try(self, address: str, origin: str) -> str:
        wake = asyncio.Event()
        request = SessionRequest(address, self._secrets, datetime.now(UTC), self._timeout, origin)
        opened = OpenSession(self._profile, request, wake)
        try:
            opened.start()
            granted = await self._wait(opened, wake)
            if self._inside is not None:
                opened.io.path = tunnel = UserspaceTunnel(opened.tunnel(granted.channel), granted)
                await self._inside(tunnel)
        finally:
            self.round_trip = min(self.round_trip, opened.session.round_trip)
            # It was granted and is not wanted any more: say so, and wait for no answer.
            opened.say_goodbye()
            opened.dispose()
        return address

    async def _wait(self, opened: OpenSession, wake: asyncio.Event) -> Up:
        """Until the tunnel is up. Raises what keeps it from that."""
        while True:
            await wake.wait()
            wake.clear()
            for event in opened.io.take_events():
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
