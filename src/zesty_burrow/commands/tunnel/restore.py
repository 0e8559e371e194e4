"""``zesty restore``: put this machine back after a crash or a power cut."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.host.guard.guard import Guard
from zesty_burrow.host.journal.journal import Restored, restore
from zesty_burrow.host.journal.lock import is_left_over
from zesty_burrow.report.results.tunnel import RestoreResult

EXAMPLE = "zesty restore"


def add_arguments(parser: ArgumentParser) -> None:
    """No words of its own."""


def run(args: Namespace, context: Context) -> RestoreResult:
    """Undo what the journals name; then open what a dead tunnel holds closed. What the user has closed stays so."""
    done: list[str] = []
    left_alone: list[str] = []
    known = [paths for paths in context.paths.tunnels if paths.journal.exists()]
    # Where there is nothing to restore, one that is up or foreign is refused in words.
    for paths in [one for one in known if is_left_over(one.journal)] or known:
        one = restore(paths.journal)
        paths.control.unlink(missing_ok=True)
        done += one.done
        left_alone += one.left_alone
    restored = Restored(tuple(done), tuple(left_alone))
    guard = Guard(context.paths.guard)
    put_back = guard.put_back()
    opened = tuple(share.what for share in guard.lift())
    return RestoreResult(restored, opened, put_back)
