"""``zesty undo``: take changes of the store back: imports, removals, changes, and what was forgotten."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import HistoryResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.history import ChangeRow

EXAMPLE = "zesty undo --list"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("number", nargs="?", type=int, help="a change, as --list numbers it; none: the last one")
    parser.add_argument("--list", action="store_true", help="list what can be taken back")
    parser.add_argument("--forget-all", action="store_true", help="let go of everything that could be taken back")


def run(args: Namespace, context: Context) -> Result:
    """One change, as a change of its own."""
    if sum((args.number is not None, args.list, args.forget_all)) > 1:
        raise UsageError("give a number, --list or --forget-all, one of them")
    with context.store() as store:
        if args.forget_all:
            return MessageResult(f"Nothing can be taken back any more ({store.forget_changes()} changes).")
        rows = store.list_changes()
        if args.list:
            return HistoryResult(tuple(rows))
        row = _wanted(rows, args.number)
        store.take_back(row.number, row.what)
        again = store.list_changes()[0].number
    return MessageResult(f"Taken back: {row.what}. To have it again: zesty undo {again}")


def _wanted(rows: list[ChangeRow], number: int | None) -> ChangeRow:
    if number is None:
        # What was taken back, and the taking back, are passed over: the next call goes on further back.
        open_rows = [row for row in rows if not row.undone and not row.what.startswith("undo: ")]
        if not open_rows:
            raise NotFound("there is nothing to take back", next_step="See `zesty undo --list`.")
        return open_rows[0]
    found = next((row for row in rows if row.number == number), None)
    if found is None:
        raise NotFound(f"there is no change {number}", next_step="See `zesty undo --list`.")
    if found.undone:
        raise NotFound(f"change {number} was taken back already", next_step="See `zesty undo --list`.")
    return found
