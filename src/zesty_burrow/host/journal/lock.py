"""Who has a journal: its owner, its lock, and whether a dead process has left it. Light to load: `status` needs it."""

from __future__ import annotations

import fcntl
import json
import os
import stat
from contextlib import suppress
from pathlib import Path

from zesty_burrow.errors import StateError


def end_record(path: Path) -> Path:
    """Beside a journal: what the last end of its tunnel has put back."""
    return path.with_name(f"{path.stem}-ended.json")


def open_journal(path: Path, *, create: bool = False) -> int:
    """A descriptor of the journal. What it says is done with this process's rights, so it has to be this user's own.

    :class:`StateError` where another user owns the file or its folder, or may write there, or where it is a link or a
    special file; ``FileNotFoundError`` if it does not exist.
    """
    _check(path.parent, path.parent.stat())
    _check_above(path.parent)
    flags = os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK | (os.O_CREAT if create else 0)
    if path.is_symlink():
        raise _foreign(path, "it is a symbolic link")
    descriptor = os.open(path, flags, 0o600)
    try:
        status = os.fstat(descriptor)
        _check(path, status)
        if not stat.S_ISREG(status.st_mode):
            raise _foreign(path, "it is not a regular file")
    except StateError:
        os.close(descriptor)
        raise
    return descriptor


def _check_above(folder: Path) -> None:
    """A user who may write to a parent folder could swap ours: all of them belong to us or to root.

    :class:`StateError` where they are not. The path is taken as it resolves. The sticky bit keeps others from renaming
    what is not theirs.
    """
    trusted = {0, os.geteuid(), *_unmapped()}
    for parent in folder.resolve().parents:
        status = parent.stat()
        if status.st_uid not in trusted:
            raise _foreign(folder, f"{parent} above it belongs to user {status.st_uid}")
        shared = status.st_mode & (stat.S_IWOTH | (stat.S_IWGRP if status.st_gid != os.getegid() else 0))
        if shared and not status.st_mode & stat.S_ISVTX:
            raise _foreign(folder, f"other users may write to {parent} above it")


def _unmapped() -> tuple[int, ...]:
    """In a user namespace that does not know the machine's root, its files seem to be this user's: 65534."""
    try:
        maps = Path("/proc/self/uid_map").read_text().split()
        return () if maps[:2] == ["0", "0"] else (int(Path("/proc/sys/kernel/overflowuid").read_text()),)
    except (OSError, ValueError):
        return ()


def _check(path: Path, status: os.stat_result) -> None:
    if status.st_uid != os.geteuid():
        raise _foreign(path, f"it belongs to user {status.st_uid}, and this is user {os.geteuid()}")
    foreign_group = stat.S_IWGRP if status.st_gid != os.getegid() else 0
    # Where the sticky bit is set, nobody can take a file of ours away or put another in its place.
    sticky = stat.S_ISDIR(status.st_mode) and status.st_mode & stat.S_ISVTX
    if status.st_mode & (stat.S_IWOTH | foreign_group) and not sticky:
        raise _foreign(path, "other users may write to it")


def _foreign(path: Path, why: str) -> StateError:
    return StateError(
        f"{path} is not used for changes to this machine",
        why=why,
        next_step="Use a folder of your own that only you can write to (--for, ZESTY_BURROW_HOME).",
        slug="journal-foreign",
    )


def lock(descriptor: int) -> bool:
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


def boot_id() -> str:
    """Tells one start of the machine from the next; empty where that is not known."""
    with suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    return ""


def is_held(path: Path) -> bool:
    """Whether a living process has the lock on a journal."""
    try:
        descriptor = open_journal(path)
    except (OSError, StateError):
        return False
    try:
        return not lock(descriptor)
    finally:
        os.close(descriptor)


def recorded_name(path: Path) -> str:
    """The name of the profile for which a journal was begun; empty where that is not known."""
    try:
        descriptor = open_journal(path)
    except (OSError, StateError):
        return ""
    with os.fdopen(descriptor, "rb") as stream:
        try:
            return str(json.loads(stream.readline(4096))["what"])
        except (ValueError, KeyError, TypeError):
            return ""


def is_left_over(path: Path) -> bool:
    """Whether a journal of this user's lies there that no living process holds."""
    try:
        descriptor = open_journal(path)
    except (OSError, StateError):
        return False
    try:
        return os.fstat(descriptor).st_size > 0 and lock(descriptor)
    finally:
        os.close(descriptor)


def read_end(path: Path) -> tuple[tuple[str, ...], tuple[str, ...]] | None:
    """What was put back when the last tunnel ended, and what was left alone; None where that is not known."""
    try:
        document = json.loads(end_record(path).read_bytes())
        return tuple(map(str, document["restored"])), tuple(map(str, document["left_alone"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None
