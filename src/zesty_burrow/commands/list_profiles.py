"""``zesty list``: profiles in the store."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from dataclasses import asdict

from zesty_burrow.commands.context import Context
from zesty_burrow.report.result import ListResult

EXAMPLE = "zesty list lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("word", nargs="*", help="show profiles with this in their name, place, provider or protocol")


def run(args: Namespace, context: Context) -> ListResult:
    """All that match every word."""
    with context.store() as store:
        return ListResult(tuple(asdict(row) for row in store.list_profiles(args.word)))
