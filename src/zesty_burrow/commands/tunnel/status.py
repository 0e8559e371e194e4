"""``zesty status``: whether a tunnel is up."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.status import LineResult, StatusResult
from zesty_burrow.use_cases.tunnel.status import StatusRequest, look

EXAMPLE = "zesty status"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", help="one tunnel alone: its profile, or the place of its exit")
    parser.add_argument(
        "--log", action="store_true", help="also show the log of the last tunnel that was brought up with --detach"
    )
    parser.add_argument(
        "--watch", action="store_true", help="draw it again and again, with the rates in both directions; q leaves"
    )
    parser.add_argument("--every", type=float, default=1.0, metavar="SECONDS", help="of --watch (1)")
    parser.add_argument("--line", action="store_true", help="one plain line, for a status bar or a prompt")
    parser.add_argument(
        "--network", action="store_true", help="also show this machine's addresses, routes, rules and name servers"
    )


def run(args: Namespace, context: Context) -> Result:
    """Once, in one line, or again and again until a key is pressed."""
    if args.every <= 0:
        raise UsageError(f"--every {args.every:g} is not a time")
    if args.watch:
        return _watch(args, context)
    result = _look(args, context)
    if args.line:
        from zesty_burrow.report.live import one_line

        return LineResult(one_line(result), result.exit_code)
    return result


def _watch(args: Namespace, context: Context) -> Result:
    import time

    from zesty_burrow.report.live import Rates, live_view
    from zesty_burrow.report.screen import Screen

    rates = Rates()
    with Screen() as screen:
        while True:
            result = _look(args, context)
            if result.tunnel is not None:
                rates.add(time.monotonic(), result.tunnel.octets_in, result.tunnel.octets_out)
            screen.draw(live_view(result, rates))
            if screen.key(args.every) in ("q", "Q"):
                return result


def _look(args: Namespace, context: Context) -> StatusResult:
    seen = look(StatusRequest(args.name or "", args.network, args.log), context)
    return StatusResult(
        seen.tunnel, seen.state, seen.condition, seen.guard, seen.findings, seen.network, seen.log, seen.others
    )
