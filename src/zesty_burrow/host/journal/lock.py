"""Who has a journal: its lock, and whether a dead process has left it. Light to load: `status` needs it."""

from __future__ import annotations

import fcntl
import json
import os
from pathlib import Path

END_RECORD = "ended.json"
"""Beside the journal: what the last end of a tunnel has put back."""


def lock(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def is_left_over(path: Path) -> bool:
    """Whether a journal lies there that no living process holds."""
    try:
        descriptor = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        return os.fstat(descriptor).st_size > 0 and lock(descriptor)
    finally:
        os.close(descriptor)


def read_end(path: Path) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
    """What was put back when the last tunnel ended, and what was left alone; None where that is not known."""
    try:
        document = json.loads(path.with_name(END_RECORD).read_bytes())
        return tuple(map(str, document["restored"])), tuple(map(str, document["left_alone"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None
