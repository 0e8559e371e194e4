"""``zesty rehearse``: go through profiles for real, without a right and without a change to this machine."""

from __future__ import annotations

import csv
import io
from argparse import ArgumentParser, Namespace
from collections.abc import Sequence

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.profiles.filters import add_filters, read_filters
from zesty_burrow.core.rehearsal import SORTS, Rehearsal
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import TextResult
from zesty_burrow.report.results.trials import RehearsalResult
from zesty_burrow.use_cases.tunnel.rehearse import RehearseRequest, rehearse

EXAMPLE = "zesty rehearse --provider 'Quillwort Relay' --sort round-trip"


def add_arguments(parser: ArgumentParser) -> None:
    add_filters(parser)
    parser.add_argument(
        "--unprotected", action="store_true", help="use a protocol that protects next to nothing as well"
    )
    parser.add_argument("--at-once", type=int, default=16, metavar="N", help="number of rehearsals at one time (16)")
    parser.add_argument("--sort", choices=SORTS, default="verdict", help="sort the table by this column (verdict)")
    parser.add_argument("--csv", action="store_true", help="write the table as CSV")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--no-exit", action="store_true", help="do not check the exits; needs no observatory")
    parser.add_argument(
        "--timeout", type=float, default=5.0, metavar="SECONDS", help="wait this long for the gateway to answer (5)"
    )


def run(args: Namespace, context: Context) -> Result:
    """All that match."""
    request = RehearseRequest(
        read_filters(args), args.unprotected, args.at_once, args.observatory, not args.no_exit, args.timeout
    )
    made = rehearse(request, context, context.reporter.rehearsed)
    rows = sorted(made.rehearsals, key=SORTS[args.sort])
    return TextResult(_csv(rows)) if args.csv else RehearsalResult(tuple(rows), made.wanted, made.interrupted)


def _csv(seen: Sequence[Rehearsal]) -> str:
    text = io.StringIO()
    rows = [_flat(one) for one in seen]
    writer = csv.DictWriter(text, list(rows[0]) if rows else ["profile"], lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue().rstrip("\n")


def _flat(rehearsal: Rehearsal) -> dict[str, object]:
    """A line of the table, for a spreadsheet."""
    document = rehearsal.document()
    failure = document["failure"] or {}
    steps = {f"{entry['step']}_seconds": entry["seconds"] for entry in document["steps"]}
    return {
        "profile": rehearsal.profile,
        "provider": rehearsal.provider,
        "city": rehearsal.city,
        "country": rehearsal.country,
        "verdict": str(rehearsal.verdict),
        "gateway": rehearsal.gateway,
        "step_reached": document["step_reached"],
        **{f"{name}_seconds": steps.get(f"{name}_seconds", "") for name in TIMED},
        "round_trip_seconds": document["round_trip"],
        "over": rehearsal.over,
        "algorithms": "; ".join(f"{label} {words}" for label, words in document["algorithms"].items()),
        "strength_bits": rehearsal.strength,
        "exit_ipv4": rehearsal.exit4.address,
        "exit_ipv6": rehearsal.exit6.address,
        "operator": rehearsal.exit4.operator or rehearsal.exit6.operator,
        "exit_country": rehearsal.exit4.country or rehearsal.exit6.country,
        "resolvers": " ".join(entry.address for entry in rehearsal.resolvers),
        "findings": " ".join(entry.code.slug for entry in rehearsal.findings),
        "failed_step": failure.get("step", ""),
        "failure": failure.get("code", ""),
        "why": failure.get("why", ""),
    }


TIMED = ("resolve", "reach", "negotiate", "prove", "sign in")
