"""``zesty tag``: the administrator's own words on profiles, to find them by."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from dataclasses import replace
from unicodedata import normalize

from zesty_burrow.commands.context import Context
from zesty_burrow.core.profile import TAG
from zesty_burrow.errors import UsageError
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.store.history import described

EXAMPLE = "zesty tag lisbon tallinn --add boats"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="+", help="profiles' names, or cities that only one profile has")
    parser.add_argument("--add", action="append", default=[], metavar="TAG", help="give them this tag")
    parser.add_argument("--drop", action="append", default=[], metavar="TAG", help="take this tag from them")


def run(args: Namespace, context: Context) -> MessageResult:
    """Add and drop; with neither say which tags they have."""
    args.add, args.drop = ([normalize("NFC", tag).lower() for tag in tags] for tags in (args.add, args.drop))
    for tag in args.add:
        if not TAG.fullmatch(tag):
            raise UsageError(f"{tag!r} is not a tag", why="letters, digits and hyphens, up to 32")
    lines = []
    with context.store() as store:
        found = [store.find_profile(name)[0] for name in dict.fromkeys(args.name)]
        changed = []
        for profile in found:
            tags = [tag for tag in dict.fromkeys((*profile.tags, *args.add)) if tag not in args.drop]
            if tuple(tags) != profile.tags:
                changed.append(replace(profile, tags=tuple(tags)))
            lines.append(f"{profile.name}: {', '.join(tags) or 'no tags'}.")
        if changed:
            store.change_profiles(changed, what=described("tag", [one.name for one in changed]))
    return MessageResult("\n".join(lines))
