"""Verdicts, choices and shared causes of rehearsals, as values."""

from __future__ import annotations

from dataclasses import replace

import pytest

from zesty_burrow.core.outside.observation import Sighting
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.rehearsal import (
    SORTS,
    Failure,
    Fitness,
    Rehearsal,
    StepTime,
    group_failures,
    judge,
    recommend,
    strength_of,
)

EXIT = Sighting("198.51.100.19", "Quillwort Relay", "PT", "Lisbon")
RESOLVER = Sighting("198.51.100.242", "Quillwort Relay", "EE", "Tallinn")
GOOD = Rehearsal(
    "quillwort-lisbon", "Quillwort Relay", "PT", "Lisbon", exit4=EXIT, resolvers=(RESOLVER,), names_asked=6,
    names_answered=6,
)  # fmt: skip


@pytest.mark.parametrize(
    ("seen", "verdict", "codes"),
    [
        (GOOD, Fitness.FIT, {"exit-as-promised", "dns-inside"}),
        (replace(GOOD, exit4=replace(EXIT, country="DE")), Fitness.DOUBTFUL, {"exit-elsewhere", "dns-inside"}),
        (replace(GOOD, exit4=replace(EXIT, country="")), Fitness.DOUBTFUL, {"exit-place-unknown", "dns-inside"}),
        (replace(GOOD, exit4=Sighting()), Fitness.DOUBTFUL, {"observatory-silent", "dns-foreign"}),
        (replace(GOOD, resolvers=()), Fitness.DOUBTFUL, {"exit-as-promised", "dns-silent"}),
        (
            replace(GOOD, resolvers=(replace(RESOLVER, operator="Cobblewire"),)),
            Fitness.DOUBTFUL,
            {"exit-as-promised", "dns-foreign"},
        ),
        (replace(GOOD, exit4=Sighting(), carries_outside=False), Fitness.FIT, {"exit-not-seen"}),
        (replace(GOOD, failure=Failure("prove", "x", "", "", "")), Fitness.FAILED, set()),
    ],
)
def test_verdicts(seen, verdict, codes):
    found = judge(seen)
    assert found[0] is verdict
    assert {entry.code.slug for entry in found[1]} == codes


def one(name, trip, seconds, bits, verdict=Fitness.FIT, **changes):
    steps = (StepTime("resolve", 100.0), StepTime("reach", seconds))
    return replace(GOOD, profile=name, round_trip=trip, steps=steps, strength=bits, verdict=verdict, **changes)


def test_what_is_recommended():
    """Only what is fit and leads outside; the time to look a name up does not count."""
    rows = [
        one("near", 0.01, 0.5, 128),
        one("quick", 0.02, 0.1, 128),
        one("strong", 0.03, 0.6, 192),
        one("doubtful", 0.001, 0.01, 256, Fitness.DOUBTFUL),
        one("failed", 0.0, 0.0, 0, Fitness.FAILED),
        one("office", 0.001, 0.01, 256, carries_outside=False),
    ]
    assert {choice: best.profile for choice, best in recommend(rows).items()} == {
        "nearest": "near",
        "fastest": "quick",
        "strongest": "strong",
    }
    assert recommend(rows[3:]) == {}
    assert min(rows, key=SORTS["time"]).profile in ("doubtful", "office")
    assert sorted(rows, key=SORTS["verdict"])[-1].profile == "failed"
    for order in SORTS.values():
        assert len(sorted(rows, key=order)) == len(rows)


def test_failures_with_one_cause_are_told_once():
    """The single gateway's own name in the reason makes no difference; another reason or step does."""

    def failed(name, step, why):
        failure = Failure(step, "gateway-unreachable", f"{name} does not answer", why, "Try later.")
        return replace(GOOD, profile=name, gateway=f"{name}.example", failure=failure)

    rows = [
        failed("a", "reach", "a.example is silent"),
        failed("b", "reach", "b.example is silent"),
        failed("c", "prove", "c.example is silent"),
        GOOD,
        failed("d", "reach", "no route"),
    ]
    groups = group_failures(rows)
    assert [group.profiles for group in groups] == [("a", "b"), ("c",), ("d",)]


@pytest.mark.parametrize(
    ("suite", "bits"),
    [
        (Suite(20, 256, prf=5, group=31), 128),
        (Suite(20, 256, prf=7, group=21), 256),
        (Suite(20, 128, prf=7, group=21), 128),
        (Suite(12, 256, 12, 5, 14), 112),
        (Suite(12, 256, 0, 5, 14), 0),
        (Suite(3, 0, 2, 2, 2), 80),
        (Suite(28, 0), 256),
        (Suite(11, 0, 12), 0),
    ],
)
def test_strength(suite, bits):
    """The weakest of cipher, PRF and key exchange; without integrity there is none."""
    assert suite_strength(suite) == bits
    assert strength_of([suite]) == bits
    assert strength_of([Suite(20, 256, prf=7, group=21), suite]) == bits
    assert strength_of([]) == 0
