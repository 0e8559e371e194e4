"""``zesty list``: profiles in the user's own store and the machine's."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from operator import attrgetter
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.filters import add_filters, read_filters
from zesty_burrow.report.results.listing import ListResult
from zesty_burrow.store.rows import ProfileRow
from zesty_burrow.use_cases.profiles.find import list_profiles

EXAMPLE = "zesty list --place PT lisbon"
COLUMNS = [name for name in ProfileRow.__slots__ if name != "needs"]


def add_arguments(parser: ArgumentParser) -> None:
    add_filters(parser)
    text = "show what needs attention, as `zesty monitor` finds it; takes longer"
    parser.add_argument("--attention", action="store_true", help=text)
    parser.add_argument("--csv", type=Path, metavar="FILE", help="write the profiles to FILE (CSV)")


def _attention(context: Context) -> dict[str, str]:
    from zesty_burrow.use_cases.verification.monitor import attention_words, watch_ahead

    return attention_words(watch_ahead(context))


def _tunnels(context: Context) -> dict[str, str]:
    """By profile, the state of its tunnel."""
    if not any(paths.control.exists() for paths in context.paths.tunnels):
        return {}
    from zesty_burrow.use_cases.tunnel.running import running_tunnels

    return {tunnel.profile: tunnel.state for tunnel in running_tunnels(context)}


def run(args: Namespace, context: Context) -> ListResult:
    """All that match every word and every option."""
    wanted = read_filters(args)
    values = attrgetter(*COLUMNS)
    attention = _attention(context) if args.attention else {}
    up = _tunnels(context)
    rows = tuple(
        {
            **dict(zip(COLUMNS, values(entry.row), strict=True)),
            "lacks": entry.lacks,
            "for": entry.store,
            "attention": attention.get(entry.row.name, ""),
            "tunnel": up.get(entry.row.name, ""),
        }
        for entry in list_profiles(wanted, context)
    )
    if args.csv is not None:
        from zesty_burrow.core.outside.runs.tables import csv_table
        from zesty_burrow.host.replace_file import write_file

        write_file(args.csv, csv_table((*COLUMNS, "lacks", "for", "attention", "tunnel"), rows))
    return ListResult(rows, asked=not wanted.is_empty)
