"""Reads what the user names into members of a kit, within the limits of :mod:`zesty_burrow.intake.limits`."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable
from pathlib import Path

from zesty_burrow.errors import InputError, NotFound, printable
from zesty_burrow.intake import limits
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused


def read_bounded(path: Path, limit: int) -> tuple[bytes, int]:
    """A regular file's octets and mode; :class:`InputError` for anything else or anything larger."""
    try:
        with path.open("rb") as stream:
            status = os.fstat(stream.fileno())
            if not stat.S_ISREG(status.st_mode):
                raise InputError(f"{path} is not a file", next_step="Name a file, a folder or an archive.")
            data = stream.read(limit + 1)
    except FileNotFoundError:
        raise NotFound(f"there is no file {path}", next_step="Check the path.") from None
    except OSError as problem:
        raise InputError(
            f"{path} cannot be read", why=problem.strerror or str(problem), next_step="Check its rights and owner."
        ) from None
    if len(data) > limit:
        raise refused("archive-bomb", str(path), f"larger than {limit >> 20} MiB")
    return data, stat.S_IMODE(status.st_mode)


def read_kit_files(path: Path) -> tuple[list[KitFile], Callable[[str], bytes | None]]:
    """The files that a path stands for, and a way to look beside a single file."""
    if path.is_dir():
        return _read_folder(path), lambda _: None
    data, mode = read_bounded(path, limits.MAX_KIT_FILE)

    def beside(name: str) -> bytes | None:
        neighbour = path.parent / name
        if not neighbour.is_file():
            return None
        return read_bounded(neighbour, limits.MAX_MEMBER)[0]

    return [KitFile(path.name, data, mode)], beside


def read_standard_input() -> list[KitFile]:
    """What is pasted or piped in, up to the same limit as a file."""
    data = sys.stdin.buffer.read(limits.MAX_KIT_FILE + 1)
    if len(data) > limits.MAX_KIT_FILE:
        raise refused("archive-bomb", "standard input", f"larger than {limits.MAX_KIT_FILE >> 20} MiB")
    return [KitFile("standard input", data)]


def read_text_input(limit: int) -> str:
    """Up to ``limit`` characters of standard input."""
    return sys.stdin.read(limit)


def _read_folder(folder: Path) -> list[KitFile]:
    members: list[KitFile] = []
    total = 0
    for directory, folders, files in os.walk(folder):
        folders.sort()
        for name in sorted(files):
            path = Path(directory, name)
            if path.is_symlink():
                raise refused("archive-link", str(folder), str(path.relative_to(folder)))
            if not path.is_file():
                continue
            data, mode = read_bounded(path, limits.MAX_KIT_FILE)
            total += len(data)
            if total > limits.MAX_TOTAL or len(members) >= limits.MAX_MEMBERS:
                raise refused("archive-bomb", str(folder), "more than the limit (docs/security.md)")
            members.append(KitFile(printable(str(path.relative_to(folder))), data, mode))
    return members


def system_authorities() -> Path:
    """The file of the public authorities that programs of this machine trust. Raises :class:`NotFound`."""
    import ssl

    paths = ssl.get_default_verify_paths()
    for name in (paths.cafile, paths.openssl_cafile, "/etc/ssl/certs/ca-certificates.crt"):
        if name and Path(name).is_file():
            return Path(name)
    raise NotFound("this machine has no file of public authorities", next_step="Install the package ca-certificates.")
