"""Asks gateways what they can do, several at a time, without signing in."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from itertools import product

from zesty_burrow.carrier.network.addresses import resolve
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.session_io import Port, SessionIo
from zesty_burrow.carrier.sessions import client_port
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import BurrowError
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import Capabilities, Probe, ProbeDone, SessionRequest, Transport
from zesty_burrow.records import dataclass

AT_ONCE = 16
APART = 0.3
"""Seconds after which a gateway's next address is asked as well, while the one before is silent."""


@dataclass(frozen=True, slots=True)
class ProbeResult:
    """A gateway's capabilities, or why it has not answered."""

    address: str
    capabilities: Capabilities | None
    why: str = ""


def probe_gateways(
    profiles: Sequence[Profile], timeout: float, on_done: Callable[[int], None], briefly: Sequence[Profile] = ()
) -> list[ProbeResult]:
    """Each profile's gateway, also where several share one; ``on_done`` is called with how many are done.

    ``briefly``: asked at the same time about their own offers alone, which leaves a gateway one half-open negotiation
    and no more; their results come last.
    """
    return asyncio.run(_probe_all(profiles, briefly, timeout, on_done))


async def _probe_all(
    profiles: Sequence[Profile], briefly: Sequence[Profile], timeout: float, on_done: Callable[[int], None]
) -> list[ProbeResult]:
    places = asyncio.Semaphore(AT_ONCE)
    count = 0

    async def one(profile: Profile, is_brief: bool) -> ProbeResult:
        nonlocal count
        async with places:
            try:
                found = await _ask(profile, timeout, is_brief)
            except BurrowError as problem:
                found = ProbeResult("", None, str(problem))
        count += 1
        on_done(count)
        return found

    asked = [one(profile, False) for profile in profiles] + [one(profile, True) for profile in briefly]
    return list(await asyncio.gather(*asked))


async def _ask(profile: Profile, timeout: float, is_brief: bool) -> ProbeResult:
    addresses = await asyncio.to_thread(resolve, profile)

    async def ask(one: Profile, address: str) -> ProbeResult:
        request = SessionRequest(address, {}, datetime.now(UTC), timeout)
        probe = protocol(profile.tunnel.protocol).probe(one, request, os.urandom, is_brief=is_brief)
        return ProbeResult(address, await _ask_at(address, probe))

    asked: set[asyncio.Task[ProbeResult]] = set()
    left = [(one, address) for one, address in product(profile.variants, addresses)]
    try:
        while left or asked:
            if left:
                asked.add(asyncio.create_task(ask(*left.pop(0))))
            ended, asked = await asyncio.wait(
                asked, timeout=APART if left else None, return_when=asyncio.FIRST_COMPLETED
            )
            for task in ended:
                if task.result().capabilities is not None:
                    return task.result()
    finally:
        for task in asked:
            task.cancel()
        await asyncio.gather(*asked, return_exceptions=True)
    return ProbeResult(addresses[0], None, f"no answer for {timeout:g} seconds")


async def _ask_at(address: str, probe: Probe) -> Capabilities | None:
    wake = asyncio.Event()
    if probe.transport is Transport.STREAM:
        port: Port = StreamPort(probe.gateway)
    elif probe.transport is Transport.FRAMED:
        port = FramedPort(probe.gateway, probe.framing)
    else:
        port = client_port(address)
    io: SessionIo[ProbeDone] = SessionIo(probe, {probe.local_port: port}, wake)
    try:
        probe.start(io.now())
        io.flush()
        while not (done := io.take_events()):
            await wake.wait()
            wake.clear()
    finally:
        io.close()
    # Silence after some answers still means something; silence from the start means nothing.
    return None if done[0].silent and not probe.found.is_known else probe.found
