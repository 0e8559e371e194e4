"""The store's calls on PostgreSQL against the same on SQLite."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

from zesty_burrow.intake.import_plan import NewProfile
from zesty_burrow.lab import story
from zesty_burrow.lab.kit import place_profile
from zesty_burrow.store.database import Database, SqliteDatabase, open_database
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store

COUNT = 2_000


def _timed(act: Callable[[], object]) -> float:
    began = time.perf_counter()
    act()
    return time.perf_counter() - began


def _one_round(database: Database) -> list[float]:
    store = Store(database, lambda _: Seal(b"k" * 32), lambda: "2026-01-01T00:00:00Z")
    lisbon = place_profile(story.PLACES[0])
    rows = [NewProfile.of(replace(lisbon, name=f"place-{number}"), "kit") for number in range(COUNT)]
    try:
        return [
            _timed(lambda: store.take_kit(rows, [])),
            _timed(store.list_profiles),
            _timed(lambda: [store.find_profile(f"place-{number}") for number in range(20)]),
            _timed(lambda: store.remove_profiles([row.profile.name for row in rows])),
        ]
    finally:
        store.close()


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """Taking 2,000 profiles, listing them, finding 20, removing all; a private cluster, reached by its socket."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from store.cluster import Cluster

    cluster = Cluster()
    ours, base = [], []
    try:
        with tempfile.TemporaryDirectory() as folder:
            for number in range(rounds):
                base.append(_one_round(SqliteDatabase(Path(folder, f"{number}.db"))))
                ours.append(_one_round(open_database(cluster.url(f"bench{number}"))))
    finally:
        cluster.stop()
    titles = (f"take {COUNT} profiles, PostgreSQL", "list them", "find 20 of them", "remove them")
    for title, one, other in zip(titles, zip(*ours, strict=True), zip(*base, strict=True), strict=True):
        yield title, list(one), list(other), "SQLite"
