"""How much is in a store on this machine, in one look: the store is neither opened as such nor changed."""

from __future__ import annotations

from contextlib import closing

from zesty_burrow.records import dataclass

TYPE_CHECKING = False
if TYPE_CHECKING:
    from pathlib import Path


@dataclass(frozen=True, slots=True)
class Counts:
    """``last``: of the latest verification, when, of which profile, and its verdict; empty without one. ``a_name``: of
    one of the profiles.
    """

    profiles: int = 0
    devices: int = 0
    a_name: str = ""
    last: tuple[str, str, str] | None = None


def count_in(path: Path) -> Counts | None:
    """None where there is no store that this user may read."""
    try:
        if not path.exists():
            return None
    except OSError:
        return None
    import sqlite3  # only where there is something to read

    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=1.0)) as connection:
            tables = {name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}

            def one(table: str, columns: str, more: str = "") -> tuple[object, ...] | None:
                if table not in tables:
                    return None
                return connection.execute(f"SELECT {columns} FROM {table} {more}").fetchone()  # type: ignore[no-any-return]  # noqa: S608

            profiles, devices = (one(table, "count(*)") or (0,) for table in ("profiles", "devices"))
            name = one("profiles", "min(name)") or (None,)
            last = one("runs", "taken_at, profile, verdict", "ORDER BY id DESC LIMIT 1")
    except (sqlite3.Error, OSError):
        return None
    words = tuple(map(str, last)) if last else None
    return Counts(int(str(profiles[0])), int(str(devices[0])), str(name[0] or ""), words)  # type: ignore[arg-type]
