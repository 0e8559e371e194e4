"""``zesty change``: change any key of a profile, or of many at once; or edit one profile's text."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.filters import add_filters, read_filters
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import MachineError, ProfileInvalid, UsageError
from zesty_burrow.profiles.text import read_profile, write_profile
from zesty_burrow.report.results.changes import ChangesResult, ProfileChanges
from zesty_burrow.use_cases.profiles.edit import ChangeRequest, change_profiles

EXAMPLE = "zesty change lisbon --set traffic.name_servers=198.51.100.242 --unset traffic.suffixes --dry-run"
EDITORS = ("VISUAL", "EDITOR")
FALLBACK = "vi"


def add_arguments(parser: ArgumentParser) -> None:
    add_filters(parser)
    text = "give a key this value, by its name in docs/profile.md; lists with commas"
    parser.add_argument("--set", action="append", default=[], metavar="KEY=VALUE", help=text)
    parser.add_argument("--unset", action="append", default=[], metavar="KEY", help="let a key have its default")
    parser.add_argument("--edit", action="store_true", help="edit one profile's text with $VISUAL or $EDITOR")
    parser.add_argument("--all", action="store_true", help="all that match, where that is more than one")
    parser.add_argument("--dry-run", action="store_true", help="only show what would change")


def run(args: Namespace, context: Context) -> ChangesResult:
    """All profiles or none are changed."""
    wanted: dict[str, str | None] = {}
    for word in args.set:
        key, equals, value = word.partition("=")
        if not equals:
            raise UsageError(f"--set {word!r} is not KEY=VALUE", next_step="For example: --set profile.city=Lisbon")
        wanted[key.strip()] = value.strip()
    wanted |= dict.fromkeys(args.unset)
    if bool(wanted) == args.edit:
        raise UsageError("give keys to change (--set, --unset), or --edit")
    request = ChangeRequest(
        read_filters(args),
        wanted,
        edit=(lambda before: _edited(before, context)) if args.edit else None,
        all_matching=args.all,
        dry_run=args.dry_run,
    )
    profiles = change_profiles(request, context)
    rows = tuple(ProfileChanges(row.before.name, row.differences) for row in profiles if row.is_changed)
    return ChangesResult(rows, len(profiles) - len(rows), dry_run=args.dry_run)


def _edited(before: Profile, context: Context) -> Profile:
    """What the user's editor makes of a profile's text. Where it is wrong, it can be edited again; it is not lost."""
    if not sys.stdin.isatty():
        raise UsageError("--edit needs a terminal", next_step="Use --set and --unset.")
    editor = next((words for name in EDITORS if (words := context.environment.get(name))), FALLBACK)
    descriptor, name = tempfile.mkstemp(prefix=f"{before.name}-", suffix=".toml")
    path = Path(name)
    with os.fdopen(descriptor, "w", encoding="utf-8") as stream:
        stream.write(write_profile(before))
    while True:
        try:
            ended = subprocess.run([*shlex.split(editor), str(path)], check=False)
        except OSError as problem:
            raise MachineError(f"the editor {editor!r} cannot be run", why=str(problem.strerror)) from None
        if ended.returncode:
            raise UsageError(f"the editor ended with {ended.returncode}; nothing was changed", why=f"see {path}")
        try:
            after = read_profile(path.read_text("utf-8", "replace"), str(path))
            if after.name != before.name:
                raise ProfileInvalid(f"{path}: profile.name", why="zesty rename changes it")
        except ProfileInvalid as problem:
            context.reporter.note(str(problem))
            if context.reporter.ask("Edit it again? [Y/n] ").lower() in ("n", "no"):
                raise UsageError("nothing was changed", why=f"your text is in {path}") from None
            continue
        path.unlink()
        return after
