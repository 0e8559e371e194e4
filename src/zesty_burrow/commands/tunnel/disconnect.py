"""``zesty disconnect``: end tunnels, and open the guard."""

from __future__ import annotations

import errno
import os
import time
from argparse import ArgumentParser, Namespace
from dataclasses import replace

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.running import Running, running_tunnels
from zesty_burrow.errors import NotFound, StateError
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.journal.lock import end_record, is_left_over, read_end
from zesty_burrow.host.units.folder import UnitFolder
from zesty_burrow.report.results.tunnel import DisconnectResult

EXAMPLE = "zesty disconnect"
TIMEOUT = 10.0


def add_arguments(parser: ArgumentParser) -> None:
    """Which tunnels."""
    parser.add_argument(
        "name", nargs="*", help="a profile, or the place of its exit; without one, all tunnels are ended"
    )


def run(args: Namespace, context: Context) -> DisconnectResult:
    """Ask the tunnels' processes to end, and wait until this machine is put back and open."""
    tunnels = running_tunnels(context)
    guard = Guard(context.paths.guard)
    left_closed = [share.what for share in guard.holders().values()]
    if not tunnels and (not args.name or set(args.name) & set(left_closed)):
        return _open_alone(guard, left_closed, context)
    wanted = [_called(word, tunnels) for word in args.name] or tunnels
    # Last the one that takes everything: until then nothing of the others' traffic leaves either.
    chosen = sorted({one.paths.control: one for one in wanted}.values(), key=lambda one: one.takes_everything)
    ends = [_end(one, guard) for one in chosen]
    return replace(ends[-1], others=tuple(ends[:-1]), closed=_still_closed(guard))


def _called(word: str, tunnels: list[Running]) -> Running:
    found = [one for one in tunnels if one.is_called(word)]
    if len(found) != 1:
        names = ", ".join(one.profile for one in tunnels if one.profile) or "none"
        what = f"{len(found)} tunnels are" if found else "no tunnel is"
        raise NotFound(f"{what} called {word!r}", next_step=f"Up: {names}.")
    return found[0]


def _end(tunnel: Running, guard: Guard) -> DisconnectResult:
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
    return DisconnectResult(tunnel.profile, restored, left_alone, ended is not None)


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except OSError as problem:
        return process > 0 and problem.errno == errno.EPERM
    return process > 0


def _open_alone(guard: Guard, left_closed: list[str], context: Context) -> DisconnectResult:
    """There is no tunnel; perhaps one that has ended has left the guard closed."""
    if any(is_left_over(paths.journal) for paths in context.paths.tunnels):
        raise StateError("no tunnel is up", next_step="Run `zesty restore`.", slug="no-tunnel")
    units = UnitFolder()
    for name in left_closed:
        # What starts with the machine would begin again in a moment.
        units.stop(name)
    opened = guard.lift()
    if not opened:
        raise StateError("no tunnel is up", next_step="No tunnel is up.", slug="no-tunnel")
    names = ", ".join(share.what for share in opened)
    return DisconnectResult(names, was_up=False, closed=_still_closed(guard))


def _still_closed(guard: Guard) -> tuple[str, ...]:
    return tuple(share.what for share in guard.holders().values())
