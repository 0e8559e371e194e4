"""``zesty remove``: profiles by name, or a provider with everything that belongs to it."""

from __future__ import annotations

import shlex
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.report.parts import plural
from zesty_burrow.report.results.changes import RemoveResult
from zesty_burrow.use_cases.profiles.edit import RemoveRequest, remove_profiles

EXAMPLE = 'zesty remove --provider "Quillwort Relay"'


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="*", help="profiles to remove")
    parser.add_argument("--provider", default="", help="remove all profiles of this provider, and its credentials")
    parser.add_argument("--yes", action="store_true", help="do not ask before a provider is removed")
    add_for_good(parser)


def add_for_good(parser: ArgumentParser) -> None:
    """Whether it can be taken back."""
    parser.add_argument(
        "--for-good", action="store_true", help="keep nothing by which `zesty undo` could bring it back"
    )


def run(args: Namespace, context: Context) -> RemoveResult:
    """Remove; secrets go when the last profile that uses them goes."""

    def confirm(count: int, forgotten: tuple[str, ...]) -> bool:
        if not args.provider or args.yes:
            return True
        if not context.reporter.can_ask:
            raise UsageError(
                f"{plural(count, 'profile')} of {args.provider} would be removed",
                why="nobody can be asked here",
                next_step=f"Run: {shlex.join(['zesty', 'remove', '--provider', args.provider, '--yes'])}",
            )
        more = f", and forget the credentials for {', '.join(forgotten)}" if forgotten else ""
        question = f"Remove {plural(count, 'profile')} of {args.provider}{more}? y or n [n] "
        return context.reporter.ask(question).casefold() in ("y", "yes")

    request = RemoveRequest(tuple(args.name), args.provider, args.for_good, confirm)
    removed = remove_profiles(request, context)
    return RemoveResult(removed.profiles, removed.forgotten, args.for_good)
