"""``zesty receive``, on a device: take what an administrator has handed over, once the owner has agreed."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.devices import ReceiptResult
from zesty_burrow.use_cases.devices.receive import ReceiveRequest, receive

EXAMPLE = "zesty receive curlew.bundle"


def add_arguments(parser: ArgumentParser) -> None:
    text = "what an administrator has made for this device; without it, what is waiting for you to agree"
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help=text)
    parser.add_argument("--agree", action="store_true", help="agree without being asked")
    text = "fetch what waits for this device, from where the administrator's `zesty links serve` answers"
    parser.add_argument("--from", dest="source", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--authority", type=Path, metavar="FILE", help=text)
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")


def run(args: Namespace, context: Context) -> ReceiptResult:
    """Open, show, ask, import: all of it or nothing."""
    done = receive(ReceiveRequest(args.file, args.agree, args.source, args.authority, args.timeout), context)
    return ReceiptResult(done.state, done.number, done.administrator, done.profiles, done.credentials, done.detail)
