"""Where compiled loops are kept: they are run as they are, so nobody else may be able to put anything there."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from zesty_burrow import errors
from zesty_burrow.records import dataclass

VARIABLE = "NUMBA_CACHE_DIR"
"""The variable that numba reads when it is imported."""
PACKAGE = Path(errors.__file__).parent
SOURCES = (
    "carrier/fast_path/*.py",
    "carrier/fast_path/loops/*.py",
    "host/udp.py",
    "core/esp/replay.py",
    "core/esp/sa.py",
)
"""What the loops are compiled from."""
_COMPLETE = "complete"
"""A file that is there once all loops are."""


@dataclass(frozen=True, slots=True)
class CompileCache:
    """``package``: the folder of the program's source; ``home``: the user's."""

    package: Path = PACKAGE
    home: Path | None = None
    sources: Sequence[str] = SOURCES

    def choose_folder(self) -> bool:
        """Choose the folder, and delete what older sources have left there; whether there is one.

        Beside the source, which is as safe as that; else in our own home. Named after the source: the loops of one
        file have parts of others in them.
        """
        os.environ.pop(VARIABLE, None)
        folder = self.package / "carrier" / "fast_path" / "__pycache__"
        if not os.access(folder.parent, os.W_OK):
            home = self.home or Path.home()
            folder = home / ".cache" / "zesty-burrow"
            try:
                if home.stat().st_uid != os.geteuid():
                    return False
                folder.mkdir(mode=0o700, parents=True, exist_ok=True)
                found = folder.stat()
            except OSError:
                return False
            if found.st_uid != os.geteuid() or found.st_mode & 0o022:
                return False
        name = "loops-" + self._fingerprint()
        for other in folder.glob("loops-*"):
            if other.name != name:
                shutil.rmtree(other, ignore_errors=True)
        os.environ[VARIABLE] = str(folder / name)
        return True

    def _fingerprint(self) -> str:
        octets = hashlib.sha256()
        for pattern in self.sources:
            for path in sorted(self.package.glob(pattern)):
                octets.update(path.name.encode() + b"\0" + path.read_bytes())
        return octets.hexdigest()[:16]


def is_complete() -> bool:
    """Whether all loops lie in the chosen folder already, as this Python, numba and processor want them."""
    try:
        noted = (Path(os.environ[VARIABLE]) / _COMPLETE).read_text()
        return bool(noted) and noted == made_for()
    except (OSError, ValueError, KeyError):
        return False


@contextmanager
def one_at_a_time() -> Iterator[None]:
    """Several tunnels may want the loops at one time: the others wait for the first, and find them."""
    folder = Path(os.environ[VARIABLE])
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def mark_complete() -> None:
    """Everything has been compiled and kept."""
    with suppress(OSError):
        (Path(os.environ[VARIABLE]) / _COMPLETE).write_text(made_for())


def made_for() -> str:
    """What compiled loops depend on besides their source; empty where that cannot be found out."""
    from importlib.metadata import version  # slow to load, and seldom asked

    with suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text().splitlines()
        kinds = [line for line in lines if line.startswith(("model name", "flags", "CPU part", "Features"))]
        processor = hashlib.sha256("\n".join(dict.fromkeys(kinds)).encode()).hexdigest()
        return f"{sys.version}; numba {version('numba')}, {version('llvmlite')}; {processor}"
    return ""
