"""Tries a gateway for real: negotiates, signs in, may ask something through the tunnel; no device, no right."""

from __future__ import annotations

import asyncio
import os
import socket
from collections.abc import Awaitable, Callable
from contextlib import suppress
from datetime import UTC, datetime

from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.configuring import Secrets, initiator_config, resolve, try_each
from zesty_burrow.carrier.inner import InnerLink
from zesty_burrow.carrier.pump import Pump
from zesty_burrow.carrier.status import STEPS, StepDone
from zesty_burrow.carrier.steps import step_of
from zesty_burrow.core.ike.events import ChildEstablished, Closed, Event, Failed, Negotiated
from zesty_burrow.core.ike.initiator import Initiator
from zesty_burrow.core.ike.initiator_table import State
from zesty_burrow.core.profile.model import Profile
from zesty_burrow.errors import BurrowError, GatewayError

Inside = Callable[[InnerLink], Awaitable[None]]
"""What is to be done through the tunnel while it stands."""


class Attempt:
    """One profile, tried; ``on_step`` hears of each step up to the sign-in."""

    def __init__(
        self,
        profile: Profile,
        secrets: Secrets,
        patience: float,
        on_step: Callable[[StepDone], None],
        inside: Inside | None = None,
    ) -> None:
        self.negotiated: Negotiated | None = None
        self.round_trip = float("inf")
        self._profile, self._secrets = profile, secrets
        self._patience, self._on_step = patience, on_step
        self._inside = inside
        self._last = 0.0
        self._asked = 0.0
        self._next = STEPS[0]

    def run(self) -> str:
        """:meth:`go` by itself."""
        return asyncio.run(self.go())

    async def go(self) -> str:
        """The gateway's address once it has accepted the sign-in. Raises a ``BurrowError`` with its step."""
        try:
            return await self._go()
        except BurrowError as error:
            error.step = self._next
            raise

    def _step(self, name: str, detail: str) -> None:
        now = asyncio.get_running_loop().time()
        self._on_step(StepDone(name, now - self._last, detail))
        self._last, self._next = now, STEPS[STEPS.index(name) + 1]

    async def _go(self) -> str:
        self._last = asyncio.get_running_loop().time()
        addresses = await asyncio.to_thread(resolve, self._profile)
        self._step("resolve", ", ".join(addresses))
        return await try_each(addresses, self._profile.gateway.port, self._try)

    async def _try(self, address: str, origin: str) -> str:
        now = datetime.now(UTC)
        config = initiator_config(self._profile, address, self._secrets, now, self._patience, origin)
        outcome: asyncio.Future[ChildEstablished] = asyncio.get_running_loop().create_future()
        initiator = Initiator(config, os.urandom)
        links: list[InnerLink] = []

        def receive(data: bytes, source: tuple[str, int], _: int, now: float) -> None:
            if source[0] != initiator.peer[0]:
                return
            if source[1] != config.encapsulation_port or data[:4] == bytes(4):
                # The shortest of all waits is nearest to what the way there and back takes.
                waiting = initiator.sa.outstanding
                initiator.receive(data, source, now)
                if waiting is not None and initiator.sa.outstanding is not waiting:
                    self.round_trip = min(self.round_trip, now - waiting.asked)
            elif links:
                links[0].receive(data)

        def on_event(event: Event) -> None:
            self._take(event, initiator, outcome)

        with udp_socket(socket.AF_INET6 if ":" in address else socket.AF_INET) as channel:
            pump: Pump[Event] = Pump(initiator, {config.local_port: channel}, receive, on_event)

            def send(data: bytes) -> None:
                with suppress(OSError):
                    channel.sendto(data, initiator.peer)

            try:
                initiator.start(pump.now())
                pump.flush()
                child = await outcome
                if self._inside is not None:
                    links.append(InnerLink(child, send))
                    await self._inside(links[0])
            finally:
                if initiator.state is State.ESTABLISHED:
                    # It was granted and is not wanted any more: say so, and wait for no answer.
                    initiator.close(pump.now())
                    for datagram in initiator.send(pump.now()):
                        with suppress(OSError):
                            channel.sendto(datagram.data, datagram.destination)
                pump.close()
        return address

    def _take(self, event: Event, initiator: Initiator, outcome: asyncio.Future[ChildEstablished]) -> None:
        step = step_of(event, initiator.peer[0], self._profile.credentials_label)
        if isinstance(event, Negotiated):
            self.negotiated = event
        if step is not None:
            self._step(*step)
        if outcome.done():
            return
        if isinstance(event, Failed):
            outcome.set_exception(event.error)
        elif isinstance(event, ChildEstablished):
            outcome.set_result(event)
        elif isinstance(event, Closed):
            outcome.set_exception(GatewayError("the gateway ended the attempt", why=event.reason))
