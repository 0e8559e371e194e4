"""Times for people: local, with their offset (ISO 8601). Programs get UTC in documents."""

from __future__ import annotations

from datetime import datetime


def local_time(stamp: str) -> str:
    """Of a time in ISO 8601. Other text is returned unchanged."""
    try:
        moment = datetime.fromisoformat(stamp)
    except ValueError:
        return stamp
    if moment.tzinfo is None:
        return stamp
    return moment.astimezone().isoformat(sep=" ", timespec="seconds")


def local_clock(stamp: str) -> str:
    """The time of day alone, with its offset."""
    return local_time(stamp)[11:]
