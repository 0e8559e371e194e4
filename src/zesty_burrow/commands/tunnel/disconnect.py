"""``zesty disconnect``: end tunnels, and open the guard."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.tunnel import DisconnectResult
from zesty_burrow.use_cases.tunnel.disconnect import Disconnected, disconnect

EXAMPLE = "zesty disconnect"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument(
        "name", nargs="*", help="a profile, or the place of its exit; without one, all tunnels are ended"
    )


def run(args: Namespace, context: Context) -> DisconnectResult:
    """Those that are named, or all."""
    return _result(disconnect(tuple(args.name), context))


def _result(ended: Disconnected) -> DisconnectResult:
    others = tuple(map(_result, ended.others))
    return DisconnectResult(
        ended.profile, ended.restored, ended.left_alone, ended.told, ended.was_up, ended.closed, others
    )
