"""The folder of units: writing, enabling, listing and removing those that are ours."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from zesty_burrow.errors import Clash, MachineError, NotFound, RightsMissing
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.host.units.texts import MADE_BY, PREFIX, Unit, timer_name, unit_name
from zesty_burrow.records import dataclass

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
        """Write and enable a unit, or its timer where it has one. A file of somebody else's is not replaced."""
        path = self.path / unit.name
        texts = {path: unit.text} | ({self.path / timer_name(unit.name): unit.timer} if unit.timer else {})
        wants = self.path / f"{unit.wanted_by}.wants"
        try:
            for one in texts:
                if one.exists() and MADE_BY not in one.read_text("utf-8", "replace"):
                    why = "it was not written by `zesty startup`"
                    raise Clash(f"{one} is not ours", why=why, next_step="Rename it.")
            for link in self._links(unit.name):
                # It was to be started by something else.
                link.unlink()
            wants.mkdir(mode=0o755, parents=True, exist_ok=True)
            for one, text in texts.items():
                replace_file(one, text.encode(), 0o644)
            enabled = list(texts)[-1]
            link = wants / enabled.name
            link.unlink(missing_ok=True)
            link.symlink_to(enabled)
        except PermissionError as problem:
            raise RightsMissing(f"units cannot be written to {self.path}", why=str(problem.strerror)) from None
        except OSError as problem:
            raise MachineError(f"units cannot be written to {self.path}", why=str(problem.strerror)) from None
        self._reload()
        return path

    def has(self, what: str) -> bool:
        """Whether there is a unit of ours for it."""
        path = self.path / unit_name(what)
        return path.exists() and MADE_BY in path.read_text("utf-8", "replace")

    def stop(self, what: str) -> bool:
        """Have systemd stop a unit of ours, and not start it again by itself; whether it was asked to."""
        program = shutil.which("systemctl")
        if not (self.path == SYSTEM and RUNS.is_dir() and program and self.has(what)):
            return False
        done = subprocess.run([program, "stop", "--", unit_name(what)], check=False, capture_output=True)
        return done.returncode == 0

    def remove(self, what: str) -> Path:
        """Disable and remove a unit of ours."""
        path = self.path / unit_name(what)
        if not path.exists() or MADE_BY not in path.read_text("utf-8", "replace"):
            raise NotFound(f"nothing of ours starts {what}", next_step="See `zesty startup`.")
        for link in self._links(path.name):
            link.unlink()
        path.unlink()
        (self.path / timer_name(path.name)).unlink(missing_ok=True)
        self._reload()
        return path

    def _links(self, service: str) -> list[Path]:
        """What starts a service or its timer."""
        return [link for name in (service, timer_name(service)) for link in self.path.glob(f"*.wants/{name}")]

    def list(self) -> list[Installed]:
        """Those that are ours, by name."""
        units = []
        for path in sorted(self.path.glob(f"{PREFIX}*.service")):
            if MADE_BY in path.read_text("utf-8", "replace"):
                links = self._links(path.name)
                started_by = tuple(sorted(link.parent.name.removesuffix(".wants") for link in links))
                units.append(Installed(path.name.removeprefix(PREFIX).removesuffix(".service"), path, started_by))
        return units

    def _reload(self) -> None:
        """systemd reads its folders again, where it runs and this is one of them."""
        program = shutil.which("systemctl")
        if self.path == SYSTEM and RUNS.is_dir() and program:
            subprocess.run([program, "daemon-reload"], check=False, capture_output=True)
