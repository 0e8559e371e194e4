"""End tunnels, and open the guard; or put this machine back after a crash."""

from __future__ import annotations

import errno
import os
import time

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.errors import NotFound, StateError
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.journal.journal import Restored, restore
from zesty_burrow.host.journal.lock import end_record, is_left_over, read_end
from zesty_burrow.host.paths import program_as_root
from zesty_burrow.host.units.folder import UnitFolder
from zesty_burrow.records import dataclass, replace
from zesty_burrow.use_cases.overview import tunnel_devices
from zesty_burrow.use_cases.tunnel.last_used import last_used
from zesty_burrow.use_cases.tunnel.running import Running, running_tunnels
from zesty_burrow.use_cases.workspace import Workspace

TIMEOUT = 10.0


@dataclass(frozen=True, slots=True)
class Disconnected:
    """A tunnel that has ended. ``restored``, ``left_alone``: what was put back, and what others have changed since.

    ``told``: whether the tunnel's process reported its end. ``was_up``: there was a tunnel, not only a closed guard.
    ``others``: tunnels that have ended before it. ``closed``: who holds the guard closed still.
    """

    profile: str
    restored: tuple[str, ...] = ()
    left_alone: tuple[str, ...] = ()
    told: bool = True
    was_up: bool = True
    closed: tuple[str, ...] = ()
    others: tuple[Disconnected, ...] = ()


@dataclass(frozen=True, slots=True)
class RestoredMachine:
    """``opened``: whose guard was opened; ``put_back``: the guard's tables were set again."""

    restored: Restored
    opened: tuple[str, ...]
    put_back: bool


def disconnect(names: tuple[str, ...], workspace: Workspace) -> Disconnected:
    """End tunnels by their profiles or the places of their exits, or all; wait until this machine is put back and open.

    Raises :class:`NotFound`, :class:`StateError` if none is up or a process did not restore this machine.
    """
    tunnels = running_tunnels(workspace)
    guard = Guard(workspace.paths.guard)
    left_closed = [share.what for share in guard.holders().values()]
    if not tunnels and (not names or set(names) & set(left_closed)):
        return _open_alone(guard, left_closed, workspace)
    wanted = [_called(word, tunnels) for word in names] or tunnels
    # Last the one that takes everything: until then nothing of the others' traffic leaves either.
    chosen = sorted({one.paths.control: one for one in wanted}.values(), key=lambda one: one.takes_everything)
    ends = [_end(one, guard) for one in chosen]
    return replace(ends[-1], others=tuple(ends[:-1]), closed=_still_closed(guard))


def _called(word: str, tunnels: list[Running]) -> Running:
    found = [tunnel for tunnel in tunnels if tunnel.is_called(word)]
    if len(found) != 1:
        names = ", ".join(tunnel.profile for tunnel in tunnels if tunnel.profile) or "none"
        what = f"{len(found)} tunnels are" if found else "no tunnel is"
        missing = NotFound(f"{what} called {word!r}", next_step=f"Up: {names}.")
        raise missing.meaning(word, [tunnel.profile for tunnel in tunnels])
    return found[0]


def _end(tunnel: Running, guard: Guard) -> Disconnected:
    journal = tunnel.paths.journal
    end_record(journal).unlink(missing_ok=True)
    ask(tunnel.paths.control, "disconnect")
    deadline = time.monotonic() + TIMEOUT
    while (journal.exists() or guard.carried(journal)) and time.monotonic() < deadline:
        time.sleep(0.02)
    process = int(tunnel.document.get("process", 0))
    if journal.exists():
        raise StateError(
            "the tunnel's process did not restore this machine's settings",
            next_step=f"End process {process or ''}, then run `zesty restore`.",
        )
    # Its last lines of log belong to the end as well.
    while _is_alive(process) and time.monotonic() < deadline:
        time.sleep(0.02)
    ended = read_end(journal)
    restored, left_alone = ended or ((), ())
    return Disconnected(tunnel.profile, restored, left_alone, ended is not None)


def nothing_up(workspace: Workspace) -> StateError:
    """There is no tunnel of this user's to end."""
    if others := tunnel_devices():
        step = f"It is another user's: {program_as_root()} disconnect"
        return StateError(f"the tunnel of the device {others[0]} is not yours", next_step=step, slug="no-tunnel")
    name = last_used(workspace) or "NAME"
    step = f"There is nothing to end. Bring a tunnel up: {program_as_root()} connect {name}"
    return StateError("no tunnel is up", next_step=step, slug="no-tunnel")


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except OSError as problem:
        return process > 0 and problem.errno == errno.EPERM
    return process > 0


def _open_alone(guard: Guard, left_closed: list[str], workspace: Workspace) -> Disconnected:
    """There is no tunnel; perhaps one that has ended has left the guard closed."""
    if any(is_left_over(paths.journal) for paths in workspace.paths.tunnels):
        raise StateError("no tunnel is up", next_step="Run `zesty restore`.", slug="no-tunnel")
    units = UnitFolder()
    for name in left_closed:
        # What starts with the machine would begin again in a moment.
        units.stop(name)
    opened = guard.lift()
    if not opened:
        raise nothing_up(workspace)
    names = ", ".join(share.what for share in opened)
    return Disconnected(names, was_up=False, closed=_still_closed(guard))


def _still_closed(guard: Guard) -> tuple[str, ...]:
    return tuple(share.what for share in guard.holders().values())


def restore_machine(workspace: Workspace) -> RestoredMachine:
    """Undo what the journals of dead tunnels name; then open what they hold closed. What the user has closed stays so.

    Raises :class:`StateError` if there is nothing to restore, or a tunnel is up.
    """
    done: list[str] = []
    left_alone: list[str] = []
    known = [paths for paths in workspace.paths.tunnels if paths.journal.exists()]
    # Where there is nothing to restore, one that is up or foreign is refused in words.
    for paths in [paths for paths in known if is_left_over(paths.journal)] or known:
        restored = restore(paths.journal)
        paths.control.unlink(missing_ok=True)
        done += restored.done
        left_alone += restored.left_alone
    guard = Guard(workspace.paths.guard)
    put_back = guard.put_back()
    opened = tuple(share.what for share in guard.lift())
    return RestoredMachine(Restored(tuple(done), tuple(left_alone)), opened, put_back)
