"""``zesty list``: profiles in her own store and the machine's."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from dataclasses import asdict

from zesty_burrow.commands.context import Context
from zesty_burrow.report.result import ListResult

EXAMPLE = "zesty list --place PT lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("word", nargs="*", help="show profiles with this in name, place, provider, protocol or tags")
    parser.add_argument("--place", help="in this city or country (its two letters)")
    parser.add_argument("--provider", help="of this provider")
    parser.add_argument("--protocol", help="with this protocol")
    parser.add_argument("--tag", help="with this tag")


def run(args: Namespace, context: Context) -> ListResult:
    """All that match every word and every option."""
    where = {key: value for key in ("place", "provider", "protocol", "tag") if (value := getattr(args, key))}
    with context.shelves() as shelves:
        rows = shelves.list_profiles(args.word, **where)
    return ListResult(tuple({**asdict(row), "for": whom} for whom, row in rows))
