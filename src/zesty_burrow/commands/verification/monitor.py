"""``zesty monitor``: what will need attention before it fails, for monitoring systems."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import MonitorResult
from zesty_burrow.use_cases.verification.monitor import watch_ahead

EXAMPLE = "zesty monitor --metrics"


def add_arguments(parser: ArgumentParser) -> None:
    forms = parser.add_mutually_exclusive_group()
    forms.add_argument("--one-line", action="store_true", help="one line, for a monitoring system")
    forms.add_argument("--metrics", action="store_true", help="OpenMetrics text, for a collector")


def run(args: Namespace, context: Context) -> Result:
    """The exit code is 0, 11 where something needs attention, 10 where something is serious."""
    form = "line" if args.one_line else "metrics" if args.metrics else ""
    return MonitorResult(watch_ahead(context), form)
