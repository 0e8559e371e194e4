"""The runs of the verification in both databases: chains, filters, and what has changed from run to run."""

from __future__ import annotations

import pytest

from zesty_burrow.core.outside.runs.record import RunFacts
from zesty_burrow.store.verifications.run_store import RunFilter, RunRow


@pytest.fixture
def full(place):
    """A store of either database."""
    return place.open()


def add(
    store, *, profile="lisbon", device="heron", verdict="sealed", exits=("198.51.100.19",), trip=0.01, at=1, chain="own"
):
    facts = RunFacts(verdict, exits).text()
    row = RunRow(
        chain, 0, f"2026-11-{at:02d}T00:00:00Z", device, profile, "home", verdict, "all", ", ".join(exits), facts, trip
    )
    seen = []

    def record(number, previous):
        seen.append((number, previous))
        return f"record {number}"

    store.runs.add(row, record)
    return seen[0]


def test_a_chain_grows_by_itself(full):
    """Each record is made with its number and the record before; another chain begins anew."""
    assert add(full) == (1, "")
    assert add(full) == (2, "record 1")
    assert add(full, chain="other") == (1, "")
    assert add(full) == (3, "record 2")
    assert [(row.chain, row.number, record) for row, record in full.runs.records(RunFilter(chain="own"))] == [
        ("own", 1, "record 1"), ("own", 2, "record 2"), ("own", 3, "record 3"),
    ]  # fmt: skip


def test_filters(full):
    for number in range(1, 7):
        add(
            full,
            at=number,
            profile="lisbon" if number % 2 else "tallinn",
            verdict="sealed" if number < 5 else "leaking",
        )
    runs = full.runs
    assert [row.taken_at[8:10] for row in runs.list_runs(RunFilter(), 3)] == ["06", "05", "04"]
    assert runs.count(RunFilter(profile="tallinn")) == 3
    assert runs.count(RunFilter(verdict="leaking")) == 2
    assert runs.count(RunFilter(since="2026-11-03", until="2026-11-05")) == 2
    assert runs.count(RunFilter(device="nobody")) == 0
    assert runs.count(RunFilter(profile="' OR 1=1 --")) == 0


def test_what_has_changed(full):
    """By profile and device; the first run of each has nothing to differ from; a round trip has to double."""
    add(full, at=1)
    add(full, at=2)
    add(full, at=3, profile="tallinn", exits=("198.51.100.35",))
    add(full, at=4, exits=("198.51.100.20",))
    add(full, at=5, exits=("198.51.100.20",), trip=0.019)
    add(full, at=6, exits=("198.51.100.20",), trip=0.09)
    add(full, at=7, device="curlew")
    rows = full.runs.changes(RunFilter(), 10)
    assert [(row.taken_at[8:10], row.earlier_at[8:10]) for row in rows] == [("06", "05"), ("04", "02")]
    assert RunFacts.of(rows[1].facts).exits == ("198.51.100.20",)
    assert RunFacts.of(rows[1].earlier_facts).exits == ("198.51.100.19",)
    assert (rows[0].earlier_round_trip, rows[0].round_trip) == (0.019, 0.09)
    assert full.runs.changes(RunFilter(profile="tallinn"), 10) == []
    assert len(full.runs.changes(RunFilter(until="2026-11-05"), 10)) == 1
