"""The runs of the verification in a store: added at the end of a chain, found again, compared."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from typing import NamedTuple

from zesty_burrow.core.outside.runs.record import DOUBLED
from zesty_burrow.records import dataclass
from zesty_burrow.store.database import Database, Transaction, placeholders

LISTED = (
    "chain", "number", "taken_at", "device", "profile", "place", "verdict", "headline", "exits", "facts", "round_trip",
)  # fmt: skip


class ObservationRow(NamedTuple):
    """What was seen from outside without a tunnel, to compare with; ``document`` is the JSON of an observation."""

    taken_at: str
    role: str
    profile: str
    verdict: str
    document: str


class RunRow(NamedTuple):
    """A run without its record. ``chain``: thumbprint of the key that has signed it; ``facts``: as text."""

    chain: str
    number: int
    taken_at: str
    device: str
    profile: str
    place: str
    verdict: str
    headline: str
    exits: str
    facts: str
    round_trip: float


class ChangedRow(NamedTuple):
    """A run that differs from the one before of the same profile on the same device."""

    taken_at: str
    device: str
    profile: str
    place: str
    facts: str
    round_trip: float
    earlier_at: str
    earlier_facts: str
    earlier_round_trip: float


@dataclass(frozen=True, slots=True)
class RunFilter:
    """Empty: any. ``since``, ``until``: RFC 3339, the first included, the last not."""

    profile: str = ""
    device: str = ""
    place: str = ""
    verdict: str = ""
    since: str = ""
    until: str = ""
    chain: str = ""

    def conditions(self, table: str = "") -> tuple[str, list[str]]:
        """For a query: what stands behind WHERE, and its values. ``table``: before each column."""
        parts, values = ["1 = 1"], []
        for column in ("profile", "device", "place", "verdict", "chain"):
            if value := getattr(self, column):
                parts.append(f"{table}{column} = ?")
                values.append(value)
        for word, sign in (("since", ">="), ("until", "<")):
            if value := getattr(self, word):
                parts.append(f"{table}taken_at {sign} ?")
                values.append(value)
        return " AND ".join(parts), values


class RunStore:
    """Of one database."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def _reading(self) -> AbstractContextManager[Transaction]:
        return self._database.transaction()

    def add(self, row: RunRow, make: Callable[[int, str], str]) -> RunRow:
        """At the end of the row's chain. ``make``: the record, from its number and the record before."""
        with self._database.transaction(write=True) as transaction:
            found = transaction.execute(
                "SELECT number, record FROM runs WHERE chain = ? ORDER BY number DESC LIMIT 1", row.chain
            )
            number, previous = (int(found[0][0]), str(found[0][1])) if found else (0, "")
            added = row._replace(number=number + 1)
            record = make(added.number, previous)
            columns = (*LISTED, "record", "earlier")
            insert = f"INSERT INTO runs ({', '.join(columns)}) VALUES ({placeholders(columns)})"  # noqa: S608
            transaction.execute(insert, *added, record, _earlier(transaction, added))
        return added

    def list_runs(self, wanted: RunFilter, most: int) -> list[RunRow]:
        """The newest first."""
        where, values = wanted.conditions()
        query = f"SELECT {', '.join(LISTED)} FROM runs WHERE {where} ORDER BY id DESC LIMIT ?"  # noqa: S608
        with self._reading() as transaction:
            return [RunRow(*row) for row in transaction.execute(query, *values, most)]

    def count(self, wanted: RunFilter) -> int:
        where, values = wanted.conditions()
        with self._reading() as transaction:
            return int(transaction.execute(f"SELECT COUNT(*) FROM runs WHERE {where}", *values)[0][0])  # noqa: S608

    def changes(self, wanted: RunFilter, most: int) -> list[ChangedRow]:
        """The newest first: runs whose facts differ from those of the run before, or that took twice as long."""
        where, values = wanted.conditions("later.")
        columns = ", ".join(
            f"later.{name}" for name in ("taken_at", "device", "profile", "place", "facts", "round_trip")
        )
        columns += ", earlier.taken_at, earlier.facts, earlier.round_trip"
        both = "runs AS later JOIN runs AS earlier ON earlier.id = later.earlier"
        query = f"SELECT {columns} FROM {both} WHERE later.earlier > 0 AND {where} ORDER BY later.id DESC LIMIT ?"  # noqa: S608
        with self._reading() as transaction:
            return [ChangedRow(*row) for row in transaction.execute(query, *values, most)]

    def records(self, wanted: RunFilter) -> Iterator[tuple[RunRow, str]]:
        """With their records, the oldest of each chain first."""
        where, values = wanted.conditions()
        names = ", ".join((*LISTED, "record"))
        query = f"SELECT {names} FROM runs WHERE {where} ORDER BY chain, number"  # noqa: S608
        with self._reading() as transaction:
            rows = transaction.execute(query, *values)
        for row in rows:
            yield RunRow(*row[:-1]), str(row[-1])

    def add_observation(self, row: ObservationRow) -> None:
        """Remember what was seen without a tunnel."""
        names = ObservationRow._fields
        insert = f"INSERT INTO observations ({', '.join(names)}) VALUES ({placeholders(names)})"  # noqa: S608
        with self._database.transaction(write=True) as transaction:
            transaction.execute(insert, *row)

    def latest_observation(self, role: str) -> ObservationRow | None:
        """The newest observation of a role: ``before``."""
        names = ", ".join(ObservationRow._fields)
        query = f"SELECT {names} FROM observations WHERE role = ? ORDER BY id DESC LIMIT 1"  # noqa: S608
        with self._reading() as transaction:
            rows = transaction.execute(query, role)
        return ObservationRow(*rows[0]) if rows else None


def _earlier(transaction: Transaction, added: RunRow) -> int:
    """The run before of the same profile on the same device, where this one differs from it or took twice as long."""
    query = "SELECT id, facts, round_trip FROM runs WHERE device = ? AND profile = ? ORDER BY id DESC LIMIT 1"
    rows = transaction.execute(query, added.device, added.profile)
    if not rows:
        return 0
    number, facts, round_trip = rows[0]
    slower = 0 < DOUBLED * float(round_trip) < added.round_trip
    return int(number) if facts != added.facts or slower else 0
