"""``zesty list``: profiles in the user's own store and the machine's."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from operator import attrgetter

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.listing import ListResult
from zesty_burrow.store.rows import ProfileRow

EXAMPLE = "zesty list --place PT lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_filters(parser)


def add_filters(parser: ArgumentParser) -> None:
    """The words that say which profiles are meant."""
    parser.add_argument("word", nargs="*", help="profiles with this in name, place, provider, protocol or tags")
    parser.add_argument("--place", help="in this city or country (its two letters)")
    parser.add_argument("--provider", help="of this provider")
    parser.add_argument("--protocol", help="with this protocol")
    parser.add_argument("--tag", help="with this tag")


def filters(args: Namespace) -> dict[str, str]:
    """What the options of ``add_filters`` ask for."""
    return {key: value for key in ("place", "provider", "protocol", "tag") if (value := getattr(args, key))}


def run(args: Namespace, context: Context) -> ListResult:
    """All that match every word and every option."""
    rows = context.list_profiles(args.word, **filters(args))
    names = ProfileRow.__slots__
    values = attrgetter(*names)
    # There may be thousands of them.
    return ListResult(tuple({**dict(zip(names, values(row), strict=True)), "for": whom} for whom, row in rows))
