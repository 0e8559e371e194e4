"""Where things lie on this machine."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping
from pathlib import Path

from zesty_burrow.errors import InputError
from zesty_burrow.records import dataclass

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import Any

HOME_VARIABLE = "ZESTY_BURROW_HOME"
APP = "zesty-burrow"


MAX_TUNNELS = 8


@dataclass(frozen=True, slots=True)
class TunnelPaths:
    """``journal``: what was changed on this machine and is not put back yet; ``control``: the socket of its process;
    ``log``: of the last one that was detached.
    """

    journal: Path
    control: Path
    log: Path


@dataclass(frozen=True, slots=True)
class Paths:
    """``data``: store, seal key; ``config``: settings; ``state``: journals and logs; ``run``: control sockets.

    ``shared``: every user of the machine may read the profiles in it (secrets stay sealed, and the key is root's).
    """

    data: Path
    config: Path
    state: Path
    run: Path
    shared: bool = False

    @property
    def store(self) -> Path:
        return self.data / "store.db"

    @property
    def settings(self) -> Path:
        return self.config / "settings.toml"

    @property
    def hooks(self) -> Path:
        """A folder of programs that run when something happens to a tunnel."""
        return self.config / "hooks"

    @property
    def tunnels(self) -> tuple[TunnelPaths, ...]:
        """Where each of the tunnels that may be up at one time has its own."""
        return tuple(
            TunnelPaths(self.state / f"journal{end}.jsonl", self.run / f"control{end}", self.state / f"tunnel{end}.log")
            for end in ("", *(f"-{number}" for number in range(1, MAX_TUNNELS)))
        )

    @property
    def guard(self) -> Path:
        """Who holds the guard closed."""
        return self.state / "guard.json"

    @property
    def ways(self) -> Path:
        """Which transport was answered in which network."""
        return self.state / "ways.json"

    @property
    def worked(self) -> Path:
        """Digests of the gateways that a tunnel was up to."""
        return self.state / "worked.txt"

    @property
    def names(self) -> Path:
        """Which name servers the tunnels ask for, and what the resolver file was before."""
        return self.state / "names.json"

    @property
    def last_profile(self) -> Path:
        """The name of the profile that was used last."""
        return self.state / "last-profile"

    def make(self, path: Path) -> Path:
        """A folder of ours, made with its final mode if it is not there: for its owner alone, or readable by all."""
        path.mkdir(mode=0o755 if self.shared and path == self.data else 0o700, parents=True, exist_ok=True)
        return path


def machine_paths(environment: Mapping[str, str]) -> Paths:
    """The machine's own places, which only root may change; under ``ZESTY_BURROW_HOME`` if that is set."""
    own = environment.get(HOME_VARIABLE)
    if own:
        base = Path(own).absolute() / "machine"
        return Paths(base, base, base, base, shared=True)
    places = (Path("/var/lib", APP), Path("/etc", APP), Path("/var/lib", APP), Path("/run", APP))
    return Paths(*places, shared=True)


def find_paths(environment: Mapping[str, str], *, root: bool, whom: str = "") -> Paths:
    """The standard places of ``me`` or the ``machine``; by default the machine's for root, one's own for others.

    One's own are under ``ZESTY_BURROW_HOME`` if set, else XDG's.
    """
    own = environment.get(HOME_VARIABLE)
    if whom == "machine" or (root and not own and not whom):
        return machine_paths(environment)
    if own:
        base = Path(own).absolute()
        return Paths(base, base, base, base)
    home = Path(environment.get("HOME", "/"))

    def xdg(variable: str, fallback: str) -> Path:
        return Path(environment.get(variable) or home / fallback, APP)

    state = xdg("XDG_STATE_HOME", ".local/state")
    run = Path(environment["XDG_RUNTIME_DIR"], APP) if environment.get("XDG_RUNTIME_DIR") else state
    return Paths(xdg("XDG_DATA_HOME", ".local/share"), xdg("XDG_CONFIG_HOME", ".config"), state, run)


def may_write(folder: Path) -> bool:
    """Whether this process may write into a folder, or make it."""
    nearest = next(entry for entry in (folder, *folder.parents) if entry.exists())
    return os.access(nearest, os.W_OK)


def running_as_root() -> bool:
    """Whether this process may use the system's places."""
    return os.geteuid() == 0


@dataclass(frozen=True, slots=True)
class SettingsFile:
    """What the settings file may say. ``observatory``: URLs, with a space between several; ``observatory_key``: the
    public keys that they sign with, in the same order; ``observatory_authority``: a file with the authorities of their
    certificates, empty: the system's. ``device``: this machine's name among the user's devices; ``policy``: a file;
    ``notifications``: "on" or "off", on the desktop.
    """

    observatory: str = ""
    observatory_key: str = ""
    observatory_authority: str = ""
    store: str = ""
    seal: str = "key-file"
    device: str = ""
    policy: str = ""
    notifications: str = "on"


def read_settings(path: Path) -> SettingsFile:
    """The settings, or the defaults where there is no file; :class:`InputError` names a wrong key."""
    try:
        text = path.read_text("utf-8")
    except FileNotFoundError:
        return SettingsFile()
    except UnicodeDecodeError as problem:
        raise InputError(f"{path} is not TOML", why=str(problem), next_step=f"Correct or remove {path}.") from None
    import tomllib  # only where there is something to read

    try:
        document: dict[str, Any] = tomllib.loads(text)
    except tomllib.TOMLDecodeError as problem:
        raise InputError(f"{path} is not TOML", why=str(problem), next_step=f"Correct or remove {path}.") from None
    known = SettingsFile.__slots__
    for key, value in document.items():
        if key not in known or not isinstance(value, str):
            raise InputError(f"{path}: {key}", why=f"the keys are {', '.join(known)}, each a text")
    return SettingsFile(**document)


SEARCHED_BY_SUDO = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
"""As sudo's `secure_path` has it on most machines: other folders of the user's PATH are not searched."""


def program_as_root() -> str:
    """``zesty`` for root itself; for others with sudo, and with the program's path where sudo would not find it."""
    if os.geteuid() == 0:
        return "zesty"
    if any(os.access(f"{folder}/zesty", os.X_OK) for folder in SEARCHED_BY_SUDO):
        return "sudo zesty"
    own = f"{os.path.dirname(sys.executable)}/zesty"  # noqa: PTH120  # pathlib is slow to load
    return f"sudo {own if os.access(own, os.X_OK) else 'zesty'}"
