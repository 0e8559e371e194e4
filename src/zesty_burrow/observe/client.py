"""The observer: asks an observatory what it sees, the way an application's traffic goes."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import OutsideError
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.look import Look
from zesty_burrow.records import replace

MOST_SIGNED = 16
"""Signed answers that are kept of one look."""

Progress = Callable[[str], None]


class Observer:
    """Looks at one observatory. ``progress`` hears in words what is being looked at."""

    def __init__(self, observatory: ObservatoryAddress, progress: Progress = lambda _: None) -> None:
        self._observatory = observatory
        self._progress = progress

    def observe(self, *, extended: bool = False) -> Observation:
        """One run of every check. An observatory that cannot be reached gives an observation that says so."""
        seen = Observation(_now())
        look = Look(self._observatory, extended=extended)
        try:
            if not look.about:
                more = {"unproven": look.unproven} if look.unproven else {}
                return replace(seen, reached=False, more=more)
            asked = [check for check in CHECKS if check.ask is not None]
            for check in asked:
                self._progress(check.looks_at)
            with ThreadPoolExecutor(len(asked) or 1) as pool:
                answers = [pool.submit(check.ask, look, seen) for check in asked if check.ask is not None]
                for answer in answers:
                    seen = seen.with_evidence(answer.result())
            seen = _with_places(seen, self._observatory, look)
        finally:
            look.close()
        return seen if seen.ipv4.address or seen.ipv6.address else nothing_observed()


def _with_places(seen: Observation, observatory: ObservatoryAddress, look: Look) -> Observation:
    """STUN tells an address without its place; HTTP may have told the same address with it."""
    known = {entry.address: entry for entry in (seen.ipv4, seen.ipv6)}
    real_time = tuple(known.get(entry.address, entry) for entry in seen.real_time)
    more = {**seen.more, "proof": observatory.proof, "observatory": observatory.host}
    if look.unproven:
        more["unproven"] = look.unproven
    if look.signed:
        more["signed"] = look.signed[:MOST_SIGNED]
    return replace(seen, real_time=real_time, more=more)


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def nothing_observed() -> Observation:
    """What is known from outside where nobody answers, or nobody is asked."""
    return Observation(_now(), reached=False)


def require_reached(observation: Observation, host: str) -> None:
    """:class:`OutsideError` where the observatory could not be reached, or could not prove that it is it."""
    if not observation.reached:
        raise OutsideError(
            f"the observatory {host} does not answer",
            why=str(observation.more.get("unproven", "")),
            next_step="See observatory, observatory_key and observatory_authority in the settings.",
        )
