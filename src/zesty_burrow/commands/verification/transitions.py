"""``zesty transitions``: cause a rekey, a loss, a return, a switch and an end, and see what leaves during each."""

from __future__ import annotations

from argparse import ArgumentParser, BooleanOptionalAction, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import TransitionsResult
from zesty_burrow.use_cases.verification.transitions import TransitionsRequest, cause_transitions

EXAMPLE = "zesty transitions --switch-to quillwort-tallinn --end"


def add_arguments(parser: ArgumentParser) -> None:
    parser.add_argument("--rekey", action=BooleanOptionalAction, default=True, help="have new keys agreed on (default)")
    text = "drop what comes from the gateway for so long, then see it come back (5; 0 for no loss)"
    parser.add_argument("--loss", type=float, default=5.0, metavar="SECONDS", help=text)
    parser.add_argument("--switch-to", default="", metavar="NAME", help="switch to this profile")
    parser.add_argument("--end", action="store_true", help="end the tunnel as the last moment")
    parser.add_argument("--observatory", default="", metavar="URL", help="https://HOST[:PORT] (from the settings file)")


def run(args: Namespace, context: Context) -> Result:
    """One moment after the other, under the packet watch."""
    request = TransitionsRequest(args.rekey, args.loss, args.switch_to, args.end, args.observatory)
    return TransitionsResult(cause_transitions(request, context))
