"""``zesty tag``: the administrator's own words on profiles, to find them by."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.plain import MessageResult
from zesty_burrow.use_cases.profiles.edit import tag_profiles

EXAMPLE = "zesty tag lisbon tallinn --add boats"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="+", help="profiles' names, or cities that only one profile has")
    parser.add_argument("--add", action="append", default=[], metavar="TAG", help="give them this tag")
    parser.add_argument("--drop", action="append", default=[], metavar="TAG", help="take this tag from them")


def run(args: Namespace, context: Context) -> MessageResult:
    """Add and drop; with neither show the tags."""
    tagged = tag_profiles(tuple(args.name), context, tuple(args.add), tuple(args.drop))
    return MessageResult("\n".join(f"{profile.name}: {', '.join(profile.tags) or 'no tags'}." for profile in tagged))
