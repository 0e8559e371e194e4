"""``zesty list``: profiles in the user's own store and the machine's."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from collections.abc import Container
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
    text = "profiles with all of these in name, place (in any usual spelling), provider, protocol or tags"
    parser.add_argument("word", nargs="*", help=text)
    parser.add_argument("--place", help="in this city or country, in any usual spelling, or its two letters")
    parser.add_argument("--provider", help="of this provider")
    parser.add_argument("--protocol", help="with this protocol")
    parser.add_argument("--tag", help="with this tag")


def filters(args: Namespace) -> dict[str, str]:
    """What the options of ``add_filters`` ask for."""
    return {key: value for key in ("place", "provider", "protocol", "tag") if (value := getattr(args, key))}


def run(args: Namespace, context: Context) -> ListResult:
    """All that match every word and every option."""
    with context.layered_store() as layered_store:
        rows = layered_store.list_profiles(args.word, **filters(args))
        kept = {(row.kind, (row.label, row.profile)) for _, row in layered_store.list_credentials()}
    names = [name for name in ProfileRow.__slots__ if name != "needs"]
    values = attrgetter(*names)
    # There may be thousands of them.
    shown = tuple(
        {**dict(zip(names, values(row), strict=True)), "lacks": lacking(row, kept), "for": whom} for whom, row in rows
    )
    return ListResult(shown, asked=bool(args.word or filters(args)))


def lacking(row: ProfileRow, kept: Container[tuple[str, tuple[str, str]]]) -> str:
    """What a profile cannot work without and has not, in words. ``kept``: kinds with their label and profile."""
    missing = [
        kind
        for kind in row.needs.split(",")
        if kind
        and (kind, (row.label, "")) not in kept
        and (kind, (row.label, row.name)) not in kept
        and (kind, ("", row.name)) not in kept
    ]
    return ", ".join([*([row.lacks] if row.lacks else []), *missing])
