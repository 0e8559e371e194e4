"""Who has a journal: its lock, and whether a dead process has left it. Light to load: `status` needs it."""

from __future__ import annotations

import fcntl
import os
from pathlib import Path


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
