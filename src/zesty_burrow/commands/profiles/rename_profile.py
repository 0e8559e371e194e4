"""``zesty rename``: give a profile another name."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.core.profile import NAME, RESERVED_NAMES
from zesty_burrow.errors import UsageError
from zesty_burrow.report.results.plain import MessageResult

EXAMPLE = "zesty rename quillwort-lisbon lisbon-at-sea"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", help="the profile's name, or a city that only one profile has")
    parser.add_argument("new_name", help="lower-case letters, digits, dots and hyphens, up to 64")


def run(args: Namespace, context: Context) -> MessageResult:
    """Only the name changes."""
    if not NAME.fullmatch(args.new_name):
        raise UsageError(f"{args.new_name!r} is not a name", why="lower-case letters, digits, dots, hyphens, up to 64")
    if args.new_name in RESERVED_NAMES:
        raise UsageError(
            f"no profile can be called {args.new_name!r}", why="commands take this word for something else"
        )
    with context.store() as store:
        old = store.find_profile(args.name)[1].name
        store.rename_profile(old, args.new_name)
    return MessageResult(f"{old} is now {args.new_name}.")
