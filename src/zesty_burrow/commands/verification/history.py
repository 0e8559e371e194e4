"""``zesty history``: earlier runs of the verification, and what has changed since when."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.core.outside.runs.tables import csv_table
from zesty_burrow.host.replace_file import write_file, write_page
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import HistoryResult
from zesty_burrow.store.verifications.run_store import RunFilter
from zesty_burrow.use_cases.verification.history import HistoryRequest, changed_runs, check_history, list_history

EXAMPLE = "zesty history --changes --profile quillwort-lisbon"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--changes", action="store_true", help="show only what has changed from run to run")
    parser.add_argument(
        "--check", action="store_true", help="check that no record was changed, left out or added later"
    )
    parser.add_argument("--profile", default="", metavar="NAME", help="runs of this profile")
    parser.add_argument("--device", default="", metavar="NAME", help="runs on this device")
    parser.add_argument("--place", default="", metavar="PLACE", help="runs from this network: operator and city")
    parser.add_argument(
        "--verdict", default="", choices=("", "sealed", "leaking", "unclear"), help="runs with this verdict"
    )
    parser.add_argument("--since", default="", metavar="TIME", help="from this day or moment on, as 2026-12-01")
    parser.add_argument("--until", default="", metavar="TIME", help="before this day or moment")
    parser.add_argument("--limit", type=int, default=100, metavar="N", help="at most so many, the newest (100)")
    text = "a public key of another device, for --check; may be repeated"
    parser.add_argument("--key", action="append", default=[], metavar="KEY", help=text)
    text = "write the runs, or with --changes what has changed, to FILE (CSV)"
    parser.add_argument("--csv", type=Path, metavar="FILE", help=text)
    text = "write a page with timelines to FILE (HTML; needs the extra pages)"
    parser.add_argument("--page", type=Path, metavar="FILE", help=text)


def run(args: Namespace, context: Context) -> Result:
    """Runs, changes, or a check."""
    if args.check:
        return HistoryResult(checked=check_history(context, args.key))
    wanted = RunFilter(args.profile, args.device, args.place, args.verdict, args.since, args.until)
    request = HistoryRequest(wanted, max(args.limit, 1))
    if args.page is not None:
        from zesty_burrow.report.pages.history_page import history_page

        runs = HistoryResult(list_history(request, context)).content()["runs"]
        write_page(
            args.page, history_page(runs, HistoryResult(changed=changed_runs(request, context)).content()["changes"])
        )
    result = HistoryResult(changed=changed_runs(request, context)) if args.changes else None
    result = result or HistoryResult(list_history(request, context))
    if args.csv is not None:
        write_file(args.csv, csv_table(*result.table()))
    return result
