"""Replaces a file's content at once."""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path

from zesty_burrow.errors import InputError


def replace_file(path: Path, content: bytes, mode: int, *, in_place: bool = False) -> None:
    """A file has its new content and mode from one moment to the next, on the disk as well. Raises ``OSError``.

    ``in_place``: where that cannot be, as for a mount point or in a folder that is closed to us, write into the file.
    """
    fresh = path.with_name(f".{path.name}.zesty")
    try:
        fresh.unlink(missing_ok=True)
        descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
        with os.fdopen(descriptor, "wb") as stream:
            os.fchmod(stream.fileno(), mode)
            stream.write(content)
            stream.flush()
            os.fsync(stream.fileno())
        fresh.rename(path)
    except OSError:
        with suppress(OSError):
            fresh.unlink(missing_ok=True)
        if not in_place or path.is_symlink():
            raise
        with path.open("wb") as stream:
            stream.write(content)


def write_page(path: Path, text: str) -> None:
    """A page that a user has asked for, for its owner alone. Raises :class:`InputError`."""
    write_file(path, text.encode())


def write_file(path: Path, content: bytes) -> None:
    """A page or table that a user has asked for, for its owner alone. Raises :class:`InputError`."""
    try:
        replace_file(path, content, 0o600)
    except OSError as problem:
        raise InputError(
            f"{path} cannot be written",
            why=problem.strerror or str(problem),
            next_step="Name a file in a folder of yours.",
        ) from None
