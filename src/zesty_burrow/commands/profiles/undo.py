"""``zesty undo``: take changes of the store back: imports, removals, changes, and what was forgotten."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import HistoryResult
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.use_cases.profiles.edit import forget_changes, list_changes, take_back

EXAMPLE = "zesty undo --list"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("number", nargs="?", type=int, help="a change, as --list numbers it; none: the last one")
    parser.add_argument("--list", action="store_true", help="list what can be taken back")
    parser.add_argument(
        "--forget-all", action="store_true", help="forget, for good, everything that could be taken back"
    )


def run(args: Namespace, context: Context) -> Result:
    """One change, as a change of its own."""
    if sum((args.number is not None, args.list, args.forget_all)) > 1:
        raise UsageError("give a number, --list or --forget-all, one of them")
    if args.forget_all:
        return MessageResult(f"Nothing can be taken back any more ({forget_changes(context)} changes).")
    if args.list:
        return HistoryResult(list_changes(context))
    taken = take_back(context, args.number)
    return MessageResult(f"Taken back: {taken.what}. To have it again: zesty undo {taken.number}")
