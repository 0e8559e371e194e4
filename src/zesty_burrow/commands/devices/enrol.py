"""``zesty enrol``, on a device: its key, and from which administrators its owner takes profiles unasked."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.devices import KeyResult
from zesty_burrow.store.devices import KINDS
from zesty_burrow.use_cases.devices.enrol import EnrolRequest, enrol

EXAMPLE = "zesty enrol --accept administrator.key"


def add_arguments(parser: ArgumentParser) -> None:
    text = "take profiles from this administrator without being asked each time: FILE as `zesty devices key` wrote it"
    parser.add_argument("--accept", type=Path, metavar="FILE", help=text)
    text = "the administrator's code, as the administrator tells it; asked for on a terminal"
    parser.add_argument("--code", default="", help=text)
    text = "ask the administrator, whose `zesty links serve` answers at URL, to take this device into the list"
    parser.add_argument("--to", metavar="URL", default="", help=text)
    text = "the authority of the server there, PEM, where it is not one of the system's"
    parser.add_argument("--authority", type=Path, metavar="FILE", help=text)
    parser.add_argument("--name", default="", help="what this device is called there; by default its host name")
    parser.add_argument("--kind", choices=KINDS, default="workstation", help="what it is (workstation)")
    parser.add_argument("--timeout", type=float, default=15.0, metavar="SECONDS", help="for the server to answer (15)")
    text = "be asked again about what comes from the administrator with this code"
    parser.add_argument("--withdraw", metavar="CODE", default="", help=text)


def run(args: Namespace, context: Context) -> KeyResult:
    """Make the key at first use; accept or withdraw; show the key."""
    request = EnrolRequest(
        accept=args.accept,
        code=args.code,
        withdraw=args.withdraw,
        server=args.to,
        authority=args.authority,
        name=args.name,
        kind=args.kind,
        timeout=args.timeout,
    )
    done = enrol(request, context)
    return KeyResult("device", done.device, done.key, done.code, done.accepted, str(done.incoming))
