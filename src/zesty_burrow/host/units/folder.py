"""The folder of units: writing, enabling, listing and removing those that are ours."""

from __future__ import annotations

import shutil
import subprocess
from dataclasses import dataclass
from pathlib import Path

from zesty_burrow.errors import Clash, MachineError, NotFound, RightsMissing
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.host.units.texts import MADE_BY, PREFIX, Unit, unit_name

SYSTEM = Path("/etc/systemd/system")
RUNS = Path("/run/systemd/system")
"""There while systemd is the machine's first process (sd_booted(3))."""


@dataclass(frozen=True, slots=True)
class Installed:
    """``started_by``: the units that start it; none where it is not enabled."""

    what: str
    path: Path
    started_by: tuple[str, ...]


class UnitFolder:
    """``path``: the folder; only that of the running systemd is reloaded."""

    def __init__(self, path: Path = SYSTEM) -> None:
        self.path = path

    def add(self, unit: Unit) -> Path:
        """Write and enable a unit. A file of somebody else's is not replaced."""
        path = self.path / unit.name
        wants = self.path / f"{unit.wanted_by}.wants"
        try:
            if path.exists() and MADE_BY not in path.read_text("utf-8", "replace"):
                raise Clash(f"{path} is not ours", why="it was not written by `zesty startup`", next_step="Rename it.")
            for link in self.path.glob(f"*.wants/{unit.name}"):
                # It was to be started by something else.
                link.unlink()
            wants.mkdir(mode=0o755, parents=True, exist_ok=True)
            replace_file(path, unit.text.encode(), 0o644)
            link = wants / unit.name
            link.unlink(missing_ok=True)
            link.symlink_to(path)
        except PermissionError as problem:
            raise RightsMissing(f"units cannot be written to {self.path}", why=str(problem.strerror)) from None
        except OSError as problem:
            raise MachineError(f"units cannot be written to {self.path}", why=str(problem.strerror)) from None
        self._reload()
        return path

    def remove(self, what: str) -> Path:
        """Disable and remove a unit of ours."""
        path = self.path / unit_name(what)
        if not path.exists() or MADE_BY not in path.read_text("utf-8", "replace"):
            raise NotFound(f"nothing of ours starts {what}", next_step="See `zesty startup`.")
        for link in self.path.glob(f"*.wants/{path.name}"):
            link.unlink()
        path.unlink()
        self._reload()
        return path

    def list(self) -> list[Installed]:
        """Those that are ours, by name."""
        found = []
        for path in sorted(self.path.glob(f"{PREFIX}*.service")):
            if MADE_BY in path.read_text("utf-8", "replace"):
                links = self.path.glob(f"*.wants/{path.name}")
                started_by = tuple(sorted(link.parent.name.removesuffix(".wants") for link in links))
                found.append(Installed(path.name.removeprefix(PREFIX).removesuffix(".service"), path, started_by))
        return found

    def _reload(self) -> None:
        """systemd reads its folders again, where it runs and this is one of them."""
        program = shutil.which("systemctl")
        if self.path == SYSTEM and RUNS.is_dir() and program:
            subprocess.run([program, "daemon-reload"], check=False, capture_output=True)
