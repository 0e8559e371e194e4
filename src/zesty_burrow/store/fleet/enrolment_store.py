"""Devices that want to be in the list, and bundles that wait until their devices fetch them."""

from __future__ import annotations

from zesty_burrow.records import dataclass
from zesty_burrow.store.database import Database

MOST = 500
"""Devices that wait to be accepted; the oldest go."""


@dataclass(frozen=True, slots=True)
class Enrolment:
    """``key``: the device's public one, as text; ``name`` and ``kind``: as it says; ``at``: RFC 3339."""

    key: str
    name: str
    kind: str
    at: str


class EnrolmentStore:
    """Waiting bundles are known by the digest of their device's key (:func:`fleet.keys.pickup_name`)."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def note(self, enrolment: Enrolment) -> None:
        """Replaces the device's earlier message."""
        with self._database.transaction(write=True) as transaction:
            transaction.execute("DELETE FROM enrolments WHERE key = ?", enrolment.key)
            insert = "INSERT INTO enrolments (key, name, kind, at) VALUES (?, ?, ?, ?)"
            transaction.execute(insert, enrolment.key, enrolment.name, enrolment.kind, enrolment.at)
            old = "SELECT key FROM enrolments ORDER BY at DESC LIMIT ?"
            transaction.execute(f"DELETE FROM enrolments WHERE key NOT IN ({old})", MOST)  # noqa: S608

    def waiting(self) -> list[Enrolment]:
        """The oldest first; those whose key is in the list already are not among them."""
        query = "SELECT key, name, kind, at FROM enrolments WHERE key NOT IN (SELECT key FROM devices) ORDER BY at, key"
        with self._database.transaction() as transaction:
            return [Enrolment(*row) for row in transaction.execute(query)]

    def forget(self, key: str) -> None:
        """It was accepted, or is not wanted."""
        with self._database.transaction(write=True) as transaction:
            transaction.execute("DELETE FROM enrolments WHERE key = ?", key)

    def leave(self, name: str, device: str, number: int, data: bytes) -> None:
        """Store a bundle that waits, and drop an older one."""
        with self._database.transaction(write=True) as transaction:
            transaction.execute("DELETE FROM pickups WHERE name = ?", name)
            insert = "INSERT INTO pickups (name, device, number, data) VALUES (?, ?, ?, ?)"
            transaction.execute(insert, name, device, number, data)

    def find(self, name: str) -> tuple[str, int, bytes] | None:
        with self._database.transaction() as transaction:
            rows = transaction.execute("SELECT device, number, data FROM pickups WHERE name = ?", name)
        return (rows[0][0], int(rows[0][1]), bytes(rows[0][2])) if rows else None

    def taken(self, name: str, number: int) -> None:
        """The device has it: it waits no more, unless a newer one does."""
        with self._database.transaction(write=True) as transaction:
            transaction.execute("DELETE FROM pickups WHERE name = ? AND number <= ?", name, number)
