"""``zesty verify``: observe what the outside sees, and judge."""

from __future__ import annotations

import os
from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.host.replace_file import write_page
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import BaselineResult, VerifyResult
from zesty_burrow.use_cases.verification.verify import VerifyRequest, verify

EXAMPLE = "zesty verify --before; zesty connect lisbon --detach; zesty verify"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--before", action="store_true", help="observe without a tunnel, to compare with later")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--extended", action="store_true", help="look up 36 one-time names instead of 6")
    text = "watch the packets that leave for this long (at least as long as the rest takes)"
    parser.add_argument("--watch", type=float, default=0.0, metavar="SECONDS", help=text)
    text = "write the packets that nothing explains to FILE (pcap)"
    parser.add_argument("--capture", type=Path, metavar="FILE", help=text)
    parser.add_argument("--page", type=Path, metavar="FILE", help="write a page for browsers and paper to FILE (HTML)")


def run(args: Namespace, context: Context) -> Result:
    """One observation; without ``--before`` it is judged."""
    seen = verify(
        VerifyRequest(args.before, args.observatory, args.extended, args.watch, args.capture, os.environ), context
    )
    if seen.judgement is None:
        return BaselineResult(seen.observation)
    if args.page is not None:
        from zesty_burrow.report.pages.verification_page import verification_page

        write_page(args.page, verification_page(seen.document(), seen.changes_document()))
    return VerifyResult(seen)
