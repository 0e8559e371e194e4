"""What has changed in a history of 100,000 verifications, beside one plain scan of the same rows."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from zesty_burrow.core.outside.runs.record import RunFacts
from zesty_burrow.store.database import SqliteDatabase
from zesty_burrow.store.seal import Seal
from zesty_burrow.store.store import Store
from zesty_burrow.store.verifications.run_store import LISTED, RunFilter

COUNT, PROFILES = 100_000, 50


def _fill(path: Path) -> Store:
    database = SqliteDatabase(path)
    store = Store(database, lambda _: Seal(b"k" * 32), lambda: "2026-01-01T00:00:00Z")
    rows = []
    for number in range(COUNT):
        exit_of = number // 5000
        facts = RunFacts(
            "sealed", (f"198.51.100.{exit_of}",), ("Quillwort Relay",), ("Lisbon, PT",), ("198.51.100.242",)
        )
        day = f"2026-{1 + number // 8640 % 12:02d}-{1 + number // 300 % 28:02d}"
        stamp = f"{day}T00:{number // 60 % 60:02d}:{number % 60:02d}Z"
        earlier = number + 1 - PROFILES if exit_of and number % 5000 < PROFILES else 0
        told = ("heron", f"profile-{number % PROFILES}", "home", "sealed", "all", "", facts.text(), 0.01)
        rows.append(("chain", number + 1, stamp, *told, "x" * 4000, earlier))
    marks = ", ".join("?" for _ in rows[0])
    with database.transaction(write=True) as transaction:
        transaction.execute_many(
            f"INSERT INTO runs ({', '.join((*LISTED, 'record', 'earlier'))}) VALUES ({marks})", rows
        )
    return store


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """``zesty history --changes`` without its start, against counting the rows."""
    ours, base = [], []
    with tempfile.TemporaryDirectory() as folder:
        store = _fill(Path(folder, "history.db"))
        for _ in range(rounds):
            began = time.perf_counter()
            found = store.runs.changes(RunFilter(), 200)
            ours.append(time.perf_counter() - began)
            began = time.perf_counter()
            store.runs.count(RunFilter(device="heron"))
            base.append(time.perf_counter() - began)
            if len(found) != 200:
                raise RuntimeError(f"{len(found)} changes")
        store.close()
    yield f"what has changed in {COUNT} verifications", ours, base, "counting them"
