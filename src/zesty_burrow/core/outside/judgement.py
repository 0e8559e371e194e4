"""Observations in, verdict out: what the outside saw before the tunnel and sees now."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.core.outside.checks import CHECKS, exit_place, resolvers
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen
from zesty_burrow.records import dataclass


class Verdict(StrEnum):
    SEALED = "sealed"
    LEAKING = "leaking"
    UNCLEAR = "unclear"


@dataclass(frozen=True, slots=True)
class Judgement:
    """The verdict with its reasons."""

    verdict: Verdict
    findings: tuple[Finding, ...]

    def also(self, findings: Iterable[Finding]) -> Judgement:
        """With what is known besides; what is serious of that makes it leaking."""
        whole = (*self.findings, *findings)
        serious = any(entry.severity is Severity.SERIOUS for entry in whole)
        return Judgement(Verdict.LEAKING if serious else self.verdict, whole)


def judge(
    before: Observation | None, after: Observation, promise: ExpectedExit, routes: Iterable[RouteSeen] = ()
) -> Judgement:
    """Compare, and say why. ``routes``: where the kernel sends packets that belong in the tunnel."""
    return judge_facts(Facts(before, after, promise, tuple(routes)))


def judge_facts(facts: Facts) -> Judgement:
    """What all checks say. Leaking wins over unclear, unclear over sealed."""
    findings = tuple(entry for check in CHECKS for entry in check.judge(facts))
    unclear = frozenset().union(*(check.unclear for check in CHECKS))
    if any(entry.severity is Severity.SERIOUS for entry in findings):
        verdict = Verdict.LEAKING
    elif any(entry.code.slug in unclear for entry in findings):
        verdict = Verdict.UNCLEAR
    else:
        verdict = Verdict.SEALED
    return Judgement(verdict, findings)


def judge_exit(seen: Observation, promise: ExpectedExit) -> list[Finding]:
    """What an exit by itself shows, with nothing from before to compare it with."""
    facts = Facts(None, seen, promise)
    return [*exit_place.CHECK.judge(facts), *resolvers.judge_resolvers(facts)]
