"""The names in a store on disk, read without the database's library: for what runs at each press of a key."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from urllib.parse import quote

MAX_NAMES = 2000


def read_names(path: Path, prefix: str) -> list[str]:
    """Up to ``MOST`` names that begin with ``prefix``, in their order; none where the store cannot be read."""
    try:
        with sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True) as connection:
            query = "SELECT name FROM profiles WHERE name >= ? AND name < ? ORDER BY name LIMIT ?"
            rows = connection.execute(query, (prefix, prefix + "\U0010ffff", MAX_NAMES)).fetchall()
    except sqlite3.Error:
        return []
    return [row[0] for row in rows]
