"""Where compiled loops are kept: it is run as it is, so nobody else may be able to put anything there."""

from __future__ import annotations

import hashlib
import os
import shutil
import sys
from contextlib import suppress
from importlib.metadata import version
from pathlib import Path

from zesty_burrow import errors

VARIABLE = "NUMBA_CACHE_DIR"
"""By which numba is told; it reads it when it is imported."""
_ROOM = Path(errors.__file__).parent
_WHOLE = "whole"
"""A file that is there once all of them are."""
_SOURCES = "core/compiled/*.py", "host/loops/*.py", "host/udp.py"


def kept_safely() -> bool:
    """Choose the folder, and throw away what older sources have left there; whether there is one.

    Beside the source, which is as good as that; else in our own home. Named after the source: the loops of one file
    have parts of others in them.
    """
    os.environ.pop(VARIABLE, None)
    folder = _ROOM / "core" / "compiled" / "__pycache__"
    if not os.access(folder.parent, os.W_OK):
        folder = Path.home() / ".cache" / "zesty-burrow"
        try:
            if Path.home().stat().st_uid != os.geteuid():
                return False
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            found = folder.stat()
        except OSError:
            return False
        if found.st_uid != os.geteuid() or found.st_mode & 0o022:
            return False
    name = "loops-" + _fingerprint()
    for other in folder.glob("loops-*"):
        if other.name != name:
            shutil.rmtree(other, ignore_errors=True)
    os.environ[VARIABLE] = str(folder / name)
    return True


def _fingerprint() -> str:
    octets = hashlib.sha256()
    for pattern in _SOURCES:
        for path in sorted(_ROOM.glob(pattern)):
            octets.update(path.name.encode() + b"\0" + path.read_bytes())
    return octets.hexdigest()[:16]


def is_whole() -> bool:
    """Whether all of them lie in the chosen folder already, as this Python, numba and processor want them."""
    try:
        said = (Path(os.environ[VARIABLE]) / _WHOLE).read_text()
        return bool(said) and said == _made_for()
    except (OSError, ValueError, KeyError):
        return False


def note_whole() -> None:
    """Everything has been compiled and kept."""
    with suppress(OSError):
        (Path(os.environ[VARIABLE]) / _WHOLE).write_text(_made_for())


def _made_for() -> str:
    with suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text().splitlines()
        kinds = [line for line in lines if line.startswith(("model name", "flags", "CPU part", "Features"))]
        processor = hashlib.sha256("\n".join(dict.fromkeys(kinds)).encode()).hexdigest()
        return f"{sys.version}; numba {version('numba')}, {version('llvmlite')}; {processor}"
    return ""
