"""Notices that a file was written, replaced or removed by anybody (inotify)."""

from __future__ import annotations

import ctypes
import os
from contextlib import suppress
from pathlib import Path

IN_NONBLOCK, IN_CLOEXEC = os.O_NONBLOCK, os.O_CLOEXEC
IN_ATTRIB, IN_CLOSE_WRITE, IN_MOVED_TO, IN_CREATE, IN_DELETE_SELF, IN_MOVE_SELF = 0x4, 0x8, 0x80, 0x100, 0x400, 0x800
"""Linux ``inotify.h``."""

_libc = ctypes.CDLL(None, use_errno=True)


def open_file_watch(path: Path) -> int:
    """A descriptor that becomes readable when the file may have changed; -1 where the kernel has none to give.

    The folder is watched as well, as most programs replace the file.
    """
    descriptor: int = _libc.inotify_init1(IN_NONBLOCK | IN_CLOEXEC)
    if descriptor >= 0:
        _libc.inotify_add_watch(descriptor, os.fsencode(path.parent), IN_MOVED_TO | IN_CREATE)
        _libc.inotify_add_watch(
            descriptor, os.fsencode(path), IN_CLOSE_WRITE | IN_ATTRIB | IN_DELETE_SELF | IN_MOVE_SELF
        )
    return descriptor


def drain_file_watch(descriptor: int) -> None:
    """Read what has come; what it says does not matter."""
    with suppress(BlockingIOError):
        while os.read(descriptor, 65536):
            pass
