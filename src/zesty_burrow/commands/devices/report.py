"""``zesty report``, on a device: verify, and report the verdict to the administrator who handed over its profile."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.devices import ReportResult
from zesty_burrow.use_cases.devices.report import report
from zesty_burrow.use_cases.verification.verify import VerifyRequest

EXAMPLE = "zesty report"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--extended", action="store_true", help="look up 36 one-time names instead of 6")
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")


def run(args: Namespace, context: Context) -> ReportResult:
    request = VerifyRequest(observatory=args.observatory, extended=args.extended)
    made = report(request, args.timeout, context)
    return ReportResult(made.verdict, made.sent, made.waiting, made.why)
