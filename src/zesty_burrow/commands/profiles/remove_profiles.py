"""``zesty remove``: profiles by name, or a provider with everything that belongs to it."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.report.parts import plural
from zesty_burrow.report.results.changes import RemoveResult
from zesty_burrow.store.history import described

EXAMPLE = 'zesty remove --provider "Quillwort Relay"'


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="*", help="profiles to remove")
    parser.add_argument("--provider", help="remove all profiles of this provider, and its credentials")
    parser.add_argument("--yes", action="store_true", help="do not ask before a provider is removed")
    add_for_good(parser)


def add_for_good(parser: ArgumentParser) -> None:
    """Whether it can be taken back."""
    parser.add_argument(
        "--for-good", action="store_true", help="keep nothing by which `zesty undo` could bring it back"
    )


def run(args: Namespace, context: Context) -> RemoveResult:
    """Remove; secrets go when the last profile that uses them goes."""
    if bool(args.name) == bool(args.provider):
        raise UsageError("name profiles, or a provider with --provider", why="one of the two is needed")
    with context.store() as store:
        labels = store.labels()
        rows = store.list_profiles()
        if args.provider:
            names = [row.name for row in rows if row.provider == args.provider]
            if not names:
                raise NotFound(f"there is no profile of a provider {args.provider!r}")
        else:
            names = list(dict.fromkeys(args.name))
            unknown = [name for name in names if name not in labels]
            if unknown:
                raise NotFound(f"there is no profile {unknown[0]!r}")
        gone = set(names)
        staying = {label for name, label in labels.items() if name not in gone}
        kept = store.list_credentials()
        orphaned = {row.label for row in kept if row.label in {labels[name] for name in names}} - staying
        forgotten = {str(row.scope) for row in kept if row.label in orphaned or row.profile in gone}
        if args.provider and not args.yes and not _agreed(args.provider, len(names), sorted(forgotten), context):
            raise UsageError("nothing was removed", why="you have said no")
        what = f"remove {args.provider}" if args.provider else described("remove", names)
        store.remove_profiles(names, forget_labels=sorted(orphaned), what=what, for_good=args.for_good)
    return RemoveResult(tuple(names), tuple(sorted(forgotten)), args.for_good)


def _agreed(provider: str, count: int, forgotten: list[str], context: Context) -> bool:
    """Asked on a terminal; a script means what it says."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return True
    more = f", and forget the credentials for {', '.join(forgotten)}" if forgotten else ""
    question = f"Remove {plural(count, 'profile')} of {provider}{more}? y or n [n] "
    return context.reporter.ask(question).casefold() in ("y", "yes")
