"""Where things stand, and what comes next. Light to load: it is what a user sees who types the program's name alone."""

from __future__ import annotations

from zesty_burrow.errors import BurrowError
from zesty_burrow.host.paths import program_as_root
from zesty_burrow.records import dataclass

TYPE_CHECKING = False
if TYPE_CHECKING:
    from zesty_burrow.store.counts import Counts
    from zesty_burrow.use_cases.workspace import Workspace

ABSENT, PRESENT, UNKNOWN = "absent", "present", "unknown"
"""Of the guard's table in the kernel: whether its rules are as intended is not looked at here."""
DEVICES = "zesty"


@dataclass(frozen=True, slots=True)
class TunnelSeen:
    """``state``: as its process tells it; ``place``: of its exit, as the profile says."""

    profile: str
    state: str
    place: str


@dataclass(frozen=True, slots=True)
class Step:
    """A command that can be pasted, and what it does."""

    command: str
    does: str


@dataclass(frozen=True, slots=True)
class Overview:
    """``store``: where it is. ``guard``: whether the kernel has its table, as just looked at. ``verified``: when,
    which profile, and the verdict; empty without one. ``others``: devices of tunnels that are not this user's.
    """

    store: str
    profiles: int
    devices: int
    tunnels: tuple[TunnelSeen, ...]
    left_over: bool
    guard: str
    verified: tuple[str, ...]
    steps: tuple[Step, ...]
    others: tuple[str, ...] = ()


def look_around(workspace: Workspace) -> Overview:
    """A short look at store, tunnels and guard."""
    counts, where = _counts(workspace)
    tunnels, left_over = _tunnels(workspace)
    guard = _guard(workspace)
    others = () if tunnels or left_over else tunnel_devices()
    steps = _steps(workspace, counts, tunnels, left_over, guard, others)
    return Overview(where, counts.profiles, counts.devices, tunnels, left_over, guard, counts.last or (), steps, others)


def tunnel_devices() -> tuple[str, ...]:
    """Devices in this network that are called as those of tunnels are; without one of one's own another user's."""
    import socket

    return tuple(name for _, name in socket.if_nameindex() if name.startswith(DEVICES))


def _counts(workspace: Workspace) -> tuple[Counts, str]:
    """Of the user's own store, with the machine's where the user has none."""
    from zesty_burrow.store.counts import Counts, count_in

    settings = workspace.settings()
    if settings.store:
        from zesty_burrow.store.database import open_database

        with workspace.store() as store:
            rows, devices = store.list_profiles(), store.fleet.list_devices()
        name = min((row.name for row in rows), default="")
        return Counts(len(rows), len(devices), name), open_database(settings.store).shown
    places = [workspace.paths.store]
    if not workspace.paths.shared:
        places.append(workspace.machine.store)
    for path in places:
        counts = count_in(path)
        if counts is not None and (counts.profiles or counts.devices):
            return counts, str(path)
    own = workspace.callers_paths()
    if own is not None:
        from zesty_burrow.use_cases.owners_store import with_rights_of

        path = own.store
        counts = with_rights_of(lambda: count_in(path), int(workspace.caller))
        if counts is not None and counts.profiles:
            return counts, str(own.store)
    return Counts(), str(workspace.paths.store)


def _tunnels(workspace: Workspace) -> tuple[tuple[TunnelSeen, ...], bool]:
    """Those that answer; and whether a dead one has left its settings."""
    places = [*workspace.paths.tunnels, *(() if workspace.paths.shared else workspace.machine.tunnels)]
    if not any(place.journal.exists() or place.control.exists() for place in places if _may_look(place.journal)):
        return (), False
    from zesty_burrow.host.journal.lock import is_left_over
    from zesty_burrow.use_cases.tunnel.running import running_tunnels

    seen = [
        TunnelSeen(one.profile, one.state, ", ".join(filter(None, map(one.document.get, ("city", "country")))))
        for one in running_tunnels(workspace)
    ]
    return tuple(seen), any(is_left_over(place.journal) for place in workspace.paths.tunnels)


def _may_look(path: object) -> bool:
    import os

    return os.access(os.path.dirname(str(path)), os.X_OK)  # noqa: PTH120


def _guard(workspace: Workspace) -> str:
    from zesty_burrow.host.guard.presence import is_in_force

    try:
        return PRESENT if is_in_force() else ABSENT
    except BurrowError:
        return UNKNOWN


def _steps(
    workspace: Workspace,
    counts: Counts,
    tunnels: tuple[TunnelSeen, ...],
    left_over: bool,
    guard: str,
    others: tuple[str, ...],
) -> tuple[Step, ...]:
    """The likeliest first, two or three."""
    root = program_as_root()
    if others:
        return (
            Step(f"{root} status", "shows the tunnel, which is another user's"),
            Step("zesty list", "lists profiles"),
        )
    if left_over:
        return (Step(f"{root} restore", "restores this machine's settings, which an earlier tunnel has left changed"),)
    if tunnels:
        return (
            Step("zesty verify", "checks that nothing leaks"),
            Step("zesty status", "shows the tunnel and its counters"),
            Step(f"{root} disconnect", "ends it, and opens the guard"),
        )
    if not counts.profiles:
        return (
            Step("zesty import KIT", "stores what a provider or an administrator has sent: a file, folder or archive"),
            Step("zesty create", "asks for the settings, where there is nothing but a sheet of paper"),
            Step(f"{root} demo", "shows everything on demo data, in a network of its own"),
        )
    from zesty_burrow.use_cases.tunnel.last_used import last_used

    name = last_used(workspace) or counts.a_name
    steps = [Step(f"{root} connect {name} --verify", "brings the tunnel up, and checks that nothing leaks")]
    if guard == PRESENT:
        steps.append(Step(f"{root} disconnect", "opens the guard: until then nothing leaves this machine"))
    elif counts.profiles > 1:
        steps.append(Step("zesty list", f"lists all {counts.profiles} profiles"))
    if counts.devices:
        steps.append(Step("zesty devices list", "shows which devices have what they should have"))
    else:
        steps.append(Step("zesty ready", "checks whether this machine is ready for a tunnel"))
    return tuple(steps)
