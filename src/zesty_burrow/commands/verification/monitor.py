"""``zesty monitor``: what will need attention before it fails, for monitoring systems."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.host.replace_file import write_file
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import MonitorResult
from zesty_burrow.use_cases.verification.monitor import watch_ahead

EXAMPLE = "zesty monitor --metrics"


def add_arguments(parser: ArgumentParser) -> None:
    forms = parser.add_mutually_exclusive_group()
    forms.add_argument("--one-line", action="store_true", help="one line, for a monitoring system")
    parser.add_argument("--csv", type=Path, metavar="FILE", help="write the findings to FILE (CSV)")
    forms.add_argument("--metrics", action="store_true", help="OpenMetrics text, for a collector")


def run(args: Namespace, context: Context) -> Result:
    """The exit code is 0, 11 where something needs attention, 10 where something is serious."""
    form = "line" if args.one_line else "metrics" if args.metrics else ""
    result = MonitorResult(watch_ahead(context), form)
    if args.csv is not None:
        write_file(args.csv, csv_table(*result.table()))
    return result
