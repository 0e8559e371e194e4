"""``zesty explain``: what a code means and what to do."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.kits import ExplainResult
from zesty_burrow.use_cases.codes import explain

EXAMPLE = "zesty explain dns-leak"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("code", nargs="?", help="a finding's or an error's code; none: list them all")


def run(args: Namespace, context: Context) -> ExplainResult:
    """One code, or all of them."""
    return ExplainResult(explain(args.code or ""))
