"""One-time links: what is behind them, whether they were opened, and how far their owners have got."""

from __future__ import annotations

from zesty_burrow.errors import NotFound
from zesty_burrow.records import dataclass
from zesty_burrow.store.database import Database

COLUMNS = ("device", "until", "opened_at", "step", "step_at")


@dataclass(frozen=True, slots=True)
class LinkRow:
    """``until``, ``opened_at``, ``step_at``: RFC 3339; ``step``: how far the owner has got."""

    device: str
    until: str
    opened_at: str = ""
    step: str = ""
    step_at: str = ""


class LinkStore:
    """Links are known by the digest of their token (:func:`fleet.links.link.name_of`)."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def add(self, name: str, device: str, sealed: bytes, until: str) -> None:
        """A new one; those that the device had before cannot be opened any more."""
        with self._database.transaction(write=True) as transaction:
            transaction.execute("DELETE FROM links WHERE device = ?", device)
            insert = (
                "INSERT INTO links (name, device, sealed, until, opened_at, step, step_at) VALUES (?, ?, ?, ?, ?, ?, ?)"
            )
            transaction.execute(insert, name, device, sealed, until, "", "", "")

    def open_once(self, name: str, now: str, opener: str = "", again: str = "") -> bytes | None:
        """What is behind it; None where it is not known, over, or was opened before.

        ``opener``: by what the same one is known, who may open it again if that was after ``again`` (RFC 3339), as long
        as no step was noted. Where that is empty nothing is kept.
        """
        with self._database.transaction(write=True) as transaction:
            query = "SELECT sealed, until, opened_at, opener FROM links WHERE name = ? AND sealed IS NOT NULL"
            rows = transaction.execute(query, name)
            if not rows:
                return None
            sealed, until, opened_at, before = rows[0]
            if opened_at:
                return bytes(sealed) if opener and opener == before and opened_at > again else None
            if until <= now:
                return None
            change = "UPDATE links SET opened_at = ?, step = ?, step_at = ?, opener = ?, sealed = ? WHERE name = ?"
            transaction.execute(change, now, "opened", now, opener, bytes(sealed) if opener else None, name)
        return bytes(sealed)

    def find(self, name: str) -> LinkRow | None:
        """By its name."""
        with self._database.transaction() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(COLUMNS)} FROM links WHERE name = ?", name)  # noqa: S608
        return LinkRow(*rows[0]) if rows else None

    def note_step(self, name: str, step: str, now: str) -> LinkRow | None:
        """How far its owner has got, who has what was behind it: nothing is kept. None where it was not opened."""
        with self._database.transaction(write=True) as transaction:
            change = "UPDATE links SET step = ?, step_at = ?, sealed = NULL WHERE name = ? AND opened_at <> ?"
            if not transaction.change(change, step, now, name, ""):
                return None
            rows = transaction.execute(f"SELECT {', '.join(COLUMNS)} FROM links WHERE name = ?", name)  # noqa: S608
        return LinkRow(*rows[0])

    def list_links(self) -> list[LinkRow]:
        """By device."""
        with self._database.transaction() as transaction:
            rows = transaction.execute(f"SELECT {', '.join(COLUMNS)} FROM links ORDER BY device")  # noqa: S608
        return [LinkRow(*row) for row in rows]

    def withdraw(self, device: str) -> None:
        """Withdraw a link. Raises :class:`NotFound`."""
        with self._database.transaction(write=True) as transaction:
            if not transaction.change("DELETE FROM links WHERE device = ?", device):
                raise NotFound(f"there is no link for {device!r}", next_step="See `zesty links list`.")

    def forget_old(self, now: str, again: str) -> None:
        """Delete the content of links that are over, or were opened before ``again``."""
        with self._database.transaction(write=True) as transaction:
            over = "until <= ? OR (opened_at <> ? AND opened_at <= ?)"
            transaction.execute(f"UPDATE links SET sealed = NULL WHERE {over}", now, "", again)  # noqa: S608
