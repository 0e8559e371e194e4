"""``zesty audit``: a report for auditors, and the check of one."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.report.pages.audit_page import audit_page
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import AuditResult
from zesty_burrow.use_cases.verification.audit import AuditRequest, check_audit, make_audit

EXAMPLE = "zesty audit --to november.zip --since 2026-11-01 --until 2026-12-01"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--to", type=Path, metavar="FILE", help="make a report: a ZIP archive of signed evidence")
    parser.add_argument("--check", type=Path, metavar="FILE", help="check a report")
    parser.add_argument("--since", default="", metavar="TIME", help="from this day or moment on, as 2026-11-01")
    parser.add_argument("--until", default="", metavar="TIME", help="before this day or moment")
    text = "for --check: the public key of the device that made it (default: this machine's)"
    parser.add_argument("--key", default="", metavar="KEY", help=text)


def run(args: Namespace, context: Context) -> Result:
    """Make one, or check one."""
    if (args.to is None) == (args.check is None):
        raise UsageError("say --to FILE to make a report, or --check FILE to check one")
    if args.check is not None:
        return AuditResult(checked=check_audit(args.check, args.key, context))
    return AuditResult(made=make_audit(AuditRequest(args.to, args.since, args.until), context, audit_page))
