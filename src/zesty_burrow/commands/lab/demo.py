"""``zesty demo``: all of it on demo data."""

from __future__ import annotations

import importlib
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.lab.demo import Demo
from zesty_burrow.report.results.plain import MessageResult

EXAMPLE = "zesty demo"
PRELOADED = ("pyroute2", "zesty_burrow.store.store", "zesty_burrow.carrier.supervisor")
"""Loaded once, before the hosts are made, so that ten commands need not load them ten times."""


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--keep", action="store_true", help="leave the lab running afterwards")


def run(args: Namespace, context: Context) -> MessageResult:
    """Exit code 0 only if each step showed what it should."""
    context.paths.make(context.paths.run)
    for room in PRELOADED:
        importlib.import_module(room)
    demo = Demo(context.program, context.paths, context.reporter.note, context.reporter.heading, keep=args.keep)
    failures = demo.run()
    if failures:
        return MessageResult(f"{len(failures)} steps did not end as expected: {'; '.join(failures)}", code=1)
    return MessageResult("Every step ended as expected.")
