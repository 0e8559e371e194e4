"""Goes through many profiles at once, for real, in this process: a bounded number at a time, results as they come."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable, Sequence

from zesty_burrow.carrier.attempt import Attempt
from zesty_burrow.carrier.userspace_tunnel import UserspaceTunnel
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.rehearsal import Failure, Rehearsal, StepTime, judge, strength_of
from zesty_burrow.errors import BurrowError
from zesty_burrow.observe.inside import Outside, Seen, look
from zesty_burrow.protocols.session import Secrets
from zesty_burrow.records import dataclass, field, replace

LOOKS_AT_ONCE = 24
"""Looks from inside at one time: each is a dozen questions to the same observatory and the same few resolvers."""


@dataclass(frozen=True)
class Part:
    """A profile with what it signs in with, or the reason why there is nothing."""

    profile: Profile
    secrets: Secrets = field(default_factory=dict, repr=False)
    missing: BurrowError | None = None


@dataclass(slots=True)
class Stage:
    """``outside`` is None where the exits are not looked at; ``on_done`` is called with each result as it comes."""

    at_once: int
    timeout: float
    outside: Outside | None
    on_done: Callable[[Rehearsal], None]
    interrupted: bool = False
    _looks: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(LOOKS_AT_ONCE))

    def run(self, parts: Sequence[Part]) -> list[Rehearsal]:
        """All results, in the order in which they came; fewer after Ctrl-C, and then ``interrupted`` is set."""
        return asyncio.run(self._run(parts))

    async def _run(self, parts: Sequence[Part]) -> list[Rehearsal]:
        done: list[Rehearsal] = []
        waiting = iter(parts)

        async def work() -> None:
            # A handful of workers, not a task for each of ten thousand profiles.
            for part in waiting:
                result = await self._rehearse(part)
                done.append(result)
                self.on_done(result)

        workers = [asyncio.ensure_future(work()) for _ in range(min(self.at_once, len(parts)))]

        def stop() -> None:
            self.interrupted = True
            for worker in workers:
                worker.cancel()

        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, stop)
        outcomes = await asyncio.gather(*workers, return_exceptions=True)
        for outcome in outcomes:
            if isinstance(outcome, Exception):
                raise outcome
        return done

    async def _rehearse(self, part: Part) -> Rehearsal:
        profile = part.profile
        result = Rehearsal(profile.name, profile.provider, profile.country, profile.city, over=profile.over)
        if part.missing is not None:
            return replace(result, failure=_failure(part.missing, "sign in"))
        steps: list[StepTime] = []
        seen: list[Seen] = []
        attempt = Attempt(
            profile,
            part.secrets,
            self.timeout,
            lambda done: steps.append(StepTime(done.step, done.seconds)),
            lambda link: self._inside(link, profile, seen),
        )
        gateway, failure = "", None
        try:
            gateway = await attempt.go()
        except BurrowError as problem:
            failure = _failure(problem, "")
        suites = {suite.label: suite.suite for suite in attempt.suites}
        result = replace(
            result,
            gateway=gateway,
            steps=tuple(steps),
            failure=failure,
            findings=attempt.findings,
            suites=suites,
            over=attempt.over,
            round_trip=attempt.round_trip if attempt.round_trip < float("inf") else 0.0,
        )
        result = replace(result, strength=strength_of(suites.values()))
        if seen:
            what = seen[0]
            result = replace(
                result,
                exit4=what.exit4,
                exit6=what.exit6,
                resolvers=what.resolvers,
                names_asked=what.names_asked,
                names_answered=what.names_answered,
                carries_outside=what.carries_outside,
            )
        else:
            result = replace(result, carries_outside=False, exit_checked=False)
        verdict, findings = judge(result)
        return replace(result, verdict=verdict, findings=findings)

    async def _inside(self, link: UserspaceTunnel, profile: Profile, seen: list[Seen]) -> None:
        if self.outside is not None:
            async with self._looks:
                seen.append(await look(link, self.outside, profile.traffic.name_servers))


def _failure(error: BurrowError, step: str) -> Failure:
    return Failure(error.step or step, error.slug, error.what, error.why, error.next_step)
