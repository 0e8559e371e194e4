"""``zesty support``: gather what a help desk needs, without secrets; it is shown before it is written."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import MessageResult, TextResult
from zesty_burrow.use_cases.support import SupportRequest, gather_support, write_support

EXAMPLE = "zesty support lisbon --to support.txt"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", default="", help="the profile that it is about; the one used last")
    parser.add_argument("--to", type=Path, metavar="FILE", help="write it to a new FILE, after it was shown")
    parser.add_argument("--yes", action="store_true", help="do not ask before it is written")
    parser.add_argument("--no-ask", action="store_true", help="do not ask the profile's gateway what it can do")


def run(args: Namespace, context: Context) -> Result:
    """Shown on standard output; written only after that, and on a terminal only after a yes."""
    text = gather_support(SupportRequest(args.name, not args.no_ask), context)
    if args.to is None:
        return TextResult(text)
    if context.reporter.can_ask and not args.yes:
        sys.stderr.write(text)
        answer = context.reporter.ask(f"Write this to {args.to}? Read it first. y or n [n] ")
        if answer.casefold() not in ("y", "yes"):
            return MessageResult("Nothing was written.")
    write_support(text, args.to)
    return MessageResult(f"Written to {args.to}: no secrets are in it, but names of hosts, addresses and accounts.")
