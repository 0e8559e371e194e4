"""What a machine starts by itself, from its start or from a user's sign-in on: a tunnel, the guard, verifications."""

from __future__ import annotations

import pwd
import sys
from pathlib import Path

from zesty_burrow.errors import NotFound, StateError, UsageError
from zesty_burrow.host.guard.guard import BY_USER, Guard
from zesty_burrow.host.guard.plan import EVERYTHING, Share, held_by
from zesty_burrow.host.guard.record import read_record
from zesty_burrow.host.guard.state import timestamp
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.host.units.folder import SYSTEM, Installed, UnitFolder
from zesty_burrow.host.units.texts import (
    GUARD,
    REPORT,
    TIMERS,
    VERIFY,
    Unit,
    guard_unit,
    report_unit,
    tunnel_unit,
    verify_unit,
)
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.records import dataclass, replace
from zesty_burrow.use_cases.workspace import Workspace

MOST_OFTEN, HOURLY, LEAST_OFTEN = 5, 60, 10080
"""Minutes between reports, and between verifications."""
TIMED = (REPORT, VERIFY)


@dataclass(frozen=True, slots=True)
class StartupRequest:
    """``what``: a profile's name, "guard", "report" or "verify". ``user``: from that user's sign-in on, for a tunnel
    only. ``on_change``: a program that a verification gives what has changed.

    ``every``: minutes between reports or verifications, 5 to 10080. ``folder``: of systemd's units. ``home``: the
    folder of the store that the machine uses; the machine's own if it is empty.
    """

    what: str
    user: str = ""
    every: int = HOURLY
    folder: Path = SYSTEM
    home: str = ""
    on_change: Path | None = None


@dataclass(frozen=True, slots=True)
class StartedUnit:
    """``users``: at whose sign-in. ``timer``: by a timer. ``machine``: with the machine. None of them: not enabled."""

    what: str
    path: Path
    users: tuple[str, ...]
    timer: bool
    machine: bool


@dataclass(frozen=True, slots=True)
class AddedUnit:
    """``held``: the guard holds this tunnel's traffic from the machine's start on."""

    path: Path
    held: bool


@dataclass(frozen=True, slots=True)
class RemovedUnit:
    """``guard``: the guard's unit, if it went too, as the last tunnel's did."""

    path: Path
    guard: Path | None


def list_startup(folder: Path = SYSTEM) -> tuple[StartedUnit, ...]:
    """What is started, and when. Raises :class:`MachineError` if the folder cannot be read."""
    return tuple(map(_started, UnitFolder(folder.absolute()).list()))


def startup_text(request: StartupRequest, workspace: Workspace) -> str:
    """The unit that :func:`add_startup` would write, with its timer. Raises what that raises."""
    unit = _unit(request, workspace)
    return "\n".join(filter(None, (unit.text, unit.timer))).rstrip("\n")


def add_startup(request: StartupRequest, workspace: Workspace) -> AddedUnit:
    """Write the unit, enable it, and hold the guard closed for it until it has started.

    Raises :class:`NotFound` for a profile or user that does not exist, :class:`UsageError` for what does not go
    together, :class:`StateError` if it could not be started without somebody there, :class:`RightsMissing`.
    """
    folder = UnitFolder(request.folder.absolute())
    path = folder.add(_unit(request, workspace))
    return AddedUnit(path, request.what not in TIMED and _hold_from_start(request, workspace, folder))


def remove_startup(what: str, workspace: Workspace, folder: Path = SYSTEM) -> RemovedUnit:
    """Disable and remove a unit; what it has started goes on. Raises :class:`NotFound`, :class:`RightsMissing`."""
    units = UnitFolder(folder.absolute())
    path = units.remove(what)
    Guard(workspace.paths.guard).hold_at_start(BY_USER if what == GUARD else what, None)
    return RemovedUnit(path, _remove_unused_guard(units, workspace))


def _remove_unused_guard(folder: UnitFolder, workspace: Workspace) -> Path | None:
    """The guard's unit goes with the last tunnel's, where the user has not added it for itself."""
    tunnels = [unit for unit in folder.list() if unit.what not in (GUARD, *TIMED)]
    if tunnels or not folder.has(GUARD) or read_record(workspace.paths.guard).at_start:
        return None
    return folder.remove(GUARD)


def _hold_from_start(request: StartupRequest, workspace: Workspace, folder: UnitFolder) -> bool:
    """Whether the guard now holds a tunnel's traffic before there is a network."""
    guard = Guard(workspace.paths.guard)
    workspace.paths.make(workspace.paths.state)
    if request.what == GUARD:
        guard.hold_at_start(BY_USER, Share(EVERYTHING, timestamp(), "set with the machine's start"))
        return False
    with workspace.layered_store() as layered_store:
        profile = layered_store.find_profile(request.what)[0]
    if not folder.has(GUARD):
        folder.add(guard_unit(*_program(request.home)))
    held = held_by(profile.traffic) if profile.traffic.everything and not request.user else ()
    guard.hold_at_start(profile.name, None)
    if held:
        why = "its tunnel starts with the machine, and is not up yet"
        guard.hold_at_start(profile.name, Share(held, timestamp(), profile.name, why=why))
    return bool(held)


def _started(unit: Installed) -> StartedUnit:
    users = [by.removeprefix("user@").removesuffix(".service") for by in unit.started_by if by.startswith("user@")]
    timer = TIMERS in unit.started_by
    machine = len(users) + timer < len(unit.started_by)
    return StartedUnit(unit.what, unit.path, tuple(map(_name_of, users)), timer, machine)


def _name_of(user: str) -> str:
    try:
        return pwd.getpwuid(int(user)).pw_name
    except (KeyError, ValueError, OverflowError):
        return f"user {user}"


def _user(name: str) -> int:
    try:
        return int(name) if name.isdecimal() else pwd.getpwnam(name).pw_uid
    except KeyError:
        raise NotFound(f"there is no user {name!r} here", next_step="Give a user's name or number.") from None


def _unit(request: StartupRequest, workspace: Workspace) -> Unit:
    if request.what in TIMED:
        return _timed(request, workspace)
    program, environment = _program(request.home)
    if request.what == GUARD:
        if request.user:
            raise UsageError("the guard holds from the machine's start on; --sign-in is for tunnels")
        return guard_unit(program, environment)
    with workspace.layered_store() as layered_store:
        # What `connect` would refuse: there is nobody to say a word each time.
        profile = restrict(workspace.policy(), layered_store.find_profile(request.what)[0])
    _require_openable(workspace)
    return tunnel_unit(profile.name, program, environment, user=_user(request.user) if request.user else None)


def _timed(request: StartupRequest, workspace: Workspace) -> Unit:
    """With the machine's store, as a tunnel: it is root's own, and so what came by SSH to root."""
    if request.user:
        raise UsageError(f"{request.what} begins with the machine's start; --sign-in is for tunnels")
    if not MOST_OFTEN <= request.every <= LEAST_OFTEN:
        raise UsageError(f"--every {request.every} is not from {MOST_OFTEN} to {LEAST_OFTEN} minutes")
    program, environment = _program(request.home)
    if request.what == VERIFY:
        return verify_unit(program, environment, request.every, request.on_change)
    machine = workspace if environment else replace(workspace, paths=workspace.machine)
    if not machine.has_store() or not _wants_reports(machine):
        raise StateError(
            "nobody wants reports of this machine",
            why=f"in the store {machine.paths.store} no administrator has said where to report to",
            next_step="Have them hand over to root here, with `zesty hand-over … --report URL`.",
        )
    _require_openable(machine)
    return report_unit(program, environment, request.every)


def _wants_reports(workspace: Workspace) -> bool:
    with workspace.store() as store:
        return any(administrator.report_to for administrator in store.fleet.administrators())


def _program(home: str) -> tuple[list[str], list[tuple[str, str]]]:
    """The command of a unit, and its environment: with the store in ``home``, else the machine's."""
    program = [str(Path(sys.executable).with_name("zesty"))]
    return (program, [(HOME_VARIABLE, home)]) if home else ([*program, "--for", "machine"], [])


def _require_openable(workspace: Workspace) -> None:
    """What the machine starts has no keyring of a user's, and nobody to ask for a passphrase."""
    method = workspace.settings().seal
    if method != "key-file":
        raise StateError(
            "this could not be started without you",
            why=f"its secrets are encrypted with the {method}, which only you can give",
            next_step="Use a key file (`zesty seal --method key-file`), or only the guard: `zesty startup add guard`.",
            slug="secrets-need-you",
        )
