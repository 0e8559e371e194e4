"""The program that owns the resolver file on some systems, resolvconf(8): programs hand it what they want in the file.

``resolvconf -a NAME`` takes the settings of one of them on its standard input, ``-d NAME`` withdraws them.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterable
from pathlib import Path

PROGRAMS = (Path("/usr/sbin/resolvconf"), Path("/sbin/resolvconf"))
OWNED = (Path("/run/resolvconf"), Path("/etc/resolvconf"))
"""Where the resolver file leads to, if it is the program's."""
NAME = "zesty.tunnels"
TIMEOUT = 5.0
ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}


def owner_of(target: Path, programs: Iterable[Path] = PROGRAMS, owned: Iterable[Path] = OWNED) -> Path | None:
    """The program, where it is there and the resolver file is a link to what it writes."""
    if not target.is_symlink():
        return None
    leads_to = Path(os.path.normpath(target.parent / target.readlink()))
    if not any(leads_to.is_relative_to(folder) for folder in owned):
        return None
    return next((program for program in programs if os.access(program, os.X_OK)), None)


def add(program: Path, text: bytes) -> bool:
    """Whether it has taken our settings."""
    return _run(program, "-a", text)


def remove(program: Path) -> bool:
    """Whether it has withdrawn them."""
    return _run(program, "-d", b"")


def _run(program: Path, option: str, text: bytes) -> bool:
    try:
        ended = subprocess.run(
            [str(program), option, NAME],
            input=text,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=ENVIRONMENT,
            cwd="/",
            timeout=TIMEOUT,
        )
    except (OSError, subprocess.TimeoutExpired):
        return False
    return ended.returncode == 0
