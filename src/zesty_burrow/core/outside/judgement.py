"""Observations in, verdict out: what the outside saw before the tunnel and sees now."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.core.outside import headline
from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.checks.asked import exit_place, resolvers
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.expectations import Expectation, Standing, expectations
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen
from zesty_burrow.records import dataclass

LEAKING = "not everything leaves as the profile says"


class Verdict(StrEnum):
    SEALED = "sealed"
    LEAKING = "leaking"
    UNCLEAR = "unclear"


@dataclass(frozen=True, slots=True)
class Judgement:
    """The verdict with its reasons. ``headline``: it in one sentence; ``expectations``: of the tunnels that are up,
    each with its evidence.
    """

    verdict: Verdict
    findings: tuple[Finding, ...]
    headline: str = ""
    expectations: tuple[Expectation, ...] = ()


def judge(
    before: Observation | None, after: Observation, promise: ExpectedExit, routes: Iterable[RouteSeen] = ()
) -> Judgement:
    """Compare, and say why. ``routes``: where the kernel sends packets that belong in the tunnel."""
    return judge_facts(Facts(before, after, promise, tuple(routes)))


def judge_facts(facts: Facts, also: Iterable[Finding] = ()) -> Judgement:
    """What all checks say, and ``also`` what is known besides. Leaking wins over unclear, unclear over sealed: sealed
    is the result only where every expectation has its evidence.
    """
    findings = (*(entry for check in CHECKS for entry in check.judge(facts)), *also)
    rows = tuple(expectations(facts, findings))
    unclear = frozenset().union(*(check.unclear for check in CHECKS))
    broken = any(row.standing is Standing.BROKEN and row.is_leak for row in rows)
    missing = any(row.standing is not Standing.HELD for row in rows)
    if broken or any(entry.severity is Severity.SERIOUS for entry in findings):
        return Judgement(Verdict.LEAKING, findings, LEAKING, rows)
    if missing or any(entry.code.slug in unclear for entry in findings):
        words = headline.unclear(rows, no_observatory=facts.no_observatory)
        return Judgement(Verdict.UNCLEAR, findings, words, rows)
    return Judgement(Verdict.SEALED, findings, headline.sealed(facts.intents, guarded=facts.guarded), rows)


def judge_exit(seen: Observation, promise: ExpectedExit) -> list[Finding]:
    """What an exit by itself shows, with nothing from before to compare it with."""
    facts = Facts(None, seen, promise)
    return [*exit_place.CHECK.judge(facts), *resolvers.judge_resolvers(facts)]
