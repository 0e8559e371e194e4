"""A host's own copy of what programs write on a machine: settings, units, state, run folders and their sockets.

What a host writes there is in memory, and gone with it; the machine's own files are never touched.
"""

from __future__ import annotations

import os
from contextlib import suppress
from pathlib import Path

from zesty_burrow.host import namespaces
from zesty_burrow.host.namespaces import MS_BIND, MS_NODEV, MS_NOSUID

COPIED = ("/etc", "/var/lib")
"""As on the machine, and private from there on."""
EMPTY = ("/run", "/var/run")
"""Sockets of the machine's own services are there, which would be reached from every network namespace."""
LAYERS = "/run/.layers"


def make_private(keep: Path) -> None:
    """Give the calling process's mount namespace files of its own; ``keep``: the lab's folder, which stays shared.

    Raises ``OSError`` where the kernel allows neither: the lab would write on the machine.
    """
    keep = keep.resolve()
    held = os.open(keep, os.O_PATH | os.O_CLOEXEC)
    try:
        for place in EMPTY:
            if Path(place).is_dir() and not Path(place).is_symlink():
                namespaces.mount("none", place, "tmpfs", MS_NOSUID | MS_NODEV, "mode=755")
        for number, place in enumerate(COPIED):
            if Path(place).is_dir():
                _copy(place, Path(LAYERS, str(number)))
        if any(keep.is_relative_to(place) for place in (*EMPTY, *COPIED)):
            keep.mkdir(mode=0o700, parents=True, exist_ok=True)
            namespaces.mount(f"/proc/self/fd/{held}", str(keep), flags=MS_BIND)
    finally:
        os.close(held)


def _copy(place: str, layers: Path) -> None:
    """What is written goes into memory."""
    above, work = layers / "above", layers / "work"
    for folder in (above, work):
        folder.mkdir(parents=True)
    above.chmod(Path(place).stat().st_mode & 0o7777)
    data = f"lowerdir={place},upperdir={above},workdir={work}"
    with suppress(OSError):
        # Without root, in a user namespace, it is allowed with this word alone.
        namespaces.mount("none", place, "overlay", data=f"userxattr,{data}")
        return
    namespaces.mount("none", place, "overlay", data=data)
