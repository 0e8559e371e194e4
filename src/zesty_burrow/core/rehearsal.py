"""What rehearsals show: verdicts, which place to take, and which failures have one cause. Values only."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum
from typing import Any

from zesty_burrow.core.finding import Finding, Severity, finding
from zesty_burrow.core.outside.judgement import judge_exit
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.records import asdict, dataclass, field


class Fitness(StrEnum):
    FIT = "fit"
    DOUBTFUL = "doubtful"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class StepTime:
    """A step and the seconds that it took."""

    step: str
    seconds: float


@dataclass(frozen=True, slots=True)
class Failure:
    """Why a rehearsal came no further."""

    step: str
    code: str
    what: str
    why: str
    next_step: str


NOWHERE = Sighting()


@dataclass(frozen=True, slots=True)
class Rehearsal:
    """One profile, gone through. Times are seconds; ``round_trip`` is 0 if nothing was ever received.

    ``over``: protocol and transport; ``suites``: what was negotiated, by what it is for; ``strength``: bits of the
    weakest of these.
    ``exit_checked``: whether the observatory was asked through the tunnel. ``carries_outside``: whether the gateway
    carries traffic to it at all; an office's gateway may not.
    """

    profile: str
    provider: str = ""
    country: str = ""
    city: str = ""
    gateway: str = ""
    steps: tuple[StepTime, ...] = ()
    failure: Failure | None = None
    over: str = ""
    suites: Mapping[str, Suite] = field(default_factory=dict)
    round_trip: float = 0.0
    exit4: Sighting = NOWHERE
    exit6: Sighting = NOWHERE
    resolvers: tuple[Sighting, ...] = ()
    names_asked: int = 0
    names_answered: int = 0
    exit_checked: bool = True
    carries_outside: bool = True
    findings: tuple[Finding, ...] = ()
    strength: int = 0
    verdict: Fitness = Fitness.FAILED

    @property
    def place(self) -> str:
        """City and country for people."""
        return ", ".join(part for part in (self.city, self.country) if part)

    @property
    def seconds(self) -> float:
        """From the first message to the standing tunnel."""
        return sum(entry.seconds for entry in self.steps if entry.step != "resolve")

    def document(self) -> dict[str, Any]:
        """As plain values; times are seconds."""
        return {
            "profile": self.profile,
            "provider": self.provider,
            "country": self.country,
            "city": self.city,
            "gateway": self.gateway,
            "verdict": str(self.verdict),
            "step_reached": self.steps[-1].step if self.steps else "",
            "steps": [{"step": entry.step, "seconds": round(entry.seconds, 6)} for entry in self.steps],
            "seconds": round(self.seconds, 6),
            "round_trip": round(self.round_trip, 6),
            "over": self.over,
            "algorithms": {label: str(suite) for label, suite in self.suites.items()},
            "strength": self.strength,
            "exit4": asdict(self.exit4),
            "exit6": asdict(self.exit6),
            "resolvers": [asdict(entry) for entry in self.resolvers],
            "exit_checked": self.exit_checked,
            "carries_outside": self.carries_outside,
            "failure": asdict(self.failure) if self.failure else None,
            "findings": [entry.document() for entry in self.findings],
        }


def strength_of(suites: Iterable[Suite]) -> int:
    """Bits of the weakest of what was negotiated; 0 without any."""
    return min(map(suite_strength, suites), default=0)


def judge(seen: Rehearsal) -> tuple[Fitness, tuple[Finding, ...]]:
    """Fit for use, doubtful, or failed, and why; ``seen.findings``: what the negotiation has already given."""
    if seen.failure is not None:
        return Fitness.FAILED, seen.findings
    findings: list[Finding] = list(seen.findings)
    if seen.carries_outside:
        outside = Observation("", seen.exit4, seen.exit6, (), seen.resolvers, seen.names_asked, seen.names_answered)
        if not seen.exit4.address and not seen.exit6.address:
            findings.append(finding("observatory-silent", "the observatory", "through the tunnel"))
        findings += judge_exit(outside, ExpectedExit(seen.country, seen.city, seen.provider))
    else:
        findings.append(finding("exit-not-seen", seen.profile))
    serious = any(entry.severity is not Severity.NOTE for entry in findings)
    return (Fitness.DOUBTFUL if serious else Fitness.FIT), tuple(findings)


_ORDERS: dict[str, Callable[[Rehearsal], tuple[float, ...]]] = {
    "nearest": lambda one: (one.round_trip, one.seconds),
    "fastest": lambda one: (one.seconds, one.round_trip),
    "strongest": lambda one: (-one.strength, one.round_trip),
}


def recommend(seen: Sequence[Rehearsal]) -> dict[str, Rehearsal]:
    """The best of those that are fit, by each of the choices; empty where none is."""
    fit = [one for one in seen if one.verdict is Fitness.FIT and one.carries_outside]
    return {choice: min(fit, key=order) for choice, order in _ORDERS.items()} if fit else {}


@dataclass(frozen=True, slots=True)
class SharedFailure:
    """One cause and the profiles that it stopped."""

    failure: Failure
    profiles: tuple[str, ...] = field(default=())


def group_failures(seen: Sequence[Rehearsal]) -> tuple[SharedFailure, ...]:
    """Failures that share a cause, told once, the most frequent first.

    The cause is the step, the code and the reason; names and addresses of the single gateway do not make a difference.
    """
    groups: dict[tuple[str, str, str], list[Rehearsal]] = {}
    for one in seen:
        if one.failure is not None:
            key = one.failure.step, one.failure.code, _without_names(one, one.failure.why)
            groups.setdefault(key, []).append(one)
    rows = [
        SharedFailure(members[0].failure, tuple(member.profile for member in members))
        for members in groups.values()
        if members[0].failure is not None
    ]
    return tuple(sorted(rows, key=lambda row: -len(row.profiles)))


def _without_names(rehearsal: Rehearsal, words: str) -> str:
    for name in (rehearsal.gateway, rehearsal.profile):
        if name:
            words = words.replace(name, "…")
    return words


SORTS: dict[str, Callable[[Rehearsal], tuple[object, ...]]] = {
    "name": lambda one: (one.profile,),
    "place": lambda one: (one.country, one.city, one.profile),
    "verdict": lambda one: (list(Fitness).index(one.verdict), one.round_trip),
    "round-trip": lambda one: (one.verdict is Fitness.FAILED, one.round_trip),
    "time": lambda one: (one.verdict is Fitness.FAILED, one.seconds),
    "strength": lambda one: (-one.strength, one.round_trip),
    "exit": lambda one: (one.exit4.country or one.exit6.country, one.exit4.address, one.exit6.address),
}
"""What the table can be sorted by."""
