"""``zesty rehearse``: go through profiles for real, without a right and without a change to this machine."""

from __future__ import annotations

import csv
import io
import json
from argparse import ArgumentParser, Namespace

from zesty_burrow.carrier.rehearse import Part, Stage
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.credentials.choose_credentials import choose
from zesty_burrow.commands.profiles.list_profiles import add_filters, filters
from zesty_burrow.core.rehearsal import SORTS, Fitness, Rehearsal, StepTime
from zesty_burrow.errors import BurrowError, NotFound, RightsMissing, UsageError
from zesty_burrow.observe.client import ObservatoryAddress
from zesty_burrow.observe.inside import Outside
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.plain import TextResult
from zesty_burrow.report.results.trials import RehearsalResult, rehearsal_document
from zesty_burrow.store.store import ObservationRow

EXAMPLE = "zesty rehearse --provider 'Quillwort Relay' --sort round-trip"
ROLE = "rehearsal"
MOST_AT_ONCE = 256


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_filters(parser)
    parser.add_argument("--unprotected", action="store_true", help="go over pptp, although it protects next to nothing")
    parser.add_argument("--at-once", type=int, default=16, metavar="N", help="number of rehearsals at one time (16)")
    parser.add_argument("--sort", choices=SORTS, default="verdict", help="sort the table by this column (verdict)")
    parser.add_argument("--csv", action="store_true", help="write the table as CSV")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--no-exit", action="store_true", help="do not check the exits; needs no observatory")
    parser.add_argument(
        "--timeout", type=float, default=5.0, metavar="SECONDS", help="wait this long for the gateway to answer (5)"
    )


def run(args: Namespace, context: Context) -> Result:
    """All that match; remembered, so that ``connect nearest`` knows."""
    if not 1 <= args.at_once <= MOST_AT_ONCE:
        raise UsageError(f"--at-once {args.at_once} is not between 1 and {MOST_AT_ONCE}")
    parts = _parts(args, context)
    outside = None if args.no_exit else _outside(args, context)
    with context.reporter.progress("rehearsing") as progress:
        count = 0

        def on_done(seen: Rehearsal) -> None:
            nonlocal count
            count += 1
            context.reporter.rehearsed(seen)
            progress(count, len(parts))

        stage = Stage(args.at_once, args.timeout, outside, on_done)
        seen = stage.run(parts)
    if seen:
        _remember(seen, context)
    seen.sort(key=SORTS[args.sort])
    result = RehearsalResult(tuple(seen), len(parts), stage.interrupted)
    return TextResult(_csv(seen)) if args.csv else result


def _remember(seen: list[Rehearsal], context: Context) -> None:
    """For ``connect nearest``. Where the store is somebody else's, the results are shown and not kept."""
    document = json.dumps([rehearsal_document(one) for one in seen])
    row = ObservationRow(context.now().strftime("%Y-%m-%dT%H:%M:%SZ"), ROLE, "", _overall(seen), document)
    try:
        with context.store() as store:
            store.add_observation(row)
    except RightsMissing as problem:
        context.reporter.note(f"The results were not stored: {problem}.")


def _parts(args: Namespace, context: Context) -> list[Part]:
    parts = []
    policy = context.policy()
    with context.layered_store() as layered_store:
        rows = layered_store.list_profiles(args.word, **filters(args))
        if not rows:
            raise NotFound("no profile matches")
        kept = layered_store.credentials_at_once()
        for row, text, whom in layered_store.profile_texts(rows):
            profile = read_profile(text, f"profile {row.name} ({whom})")
            try:
                secrets = choose(profile, kept, context, ask=False).secrets
                parts.append(Part(restrict(policy, profile, unprotected=args.unprotected), secrets))
            except BurrowError as problem:
                parts.append(Part(profile, missing=problem))
    return parts


def _outside(args: Namespace, context: Context) -> Outside:
    url = args.observatory or context.settings().observatory
    if not url:
        raise UsageError(
            "no observatory is configured, so the exits cannot be checked",
            next_step="Name one with --observatory URL, or leave the exits out with --no-exit.",
        )
    outside = Outside(ObservatoryAddress.of(url))
    outside.prepare()
    return outside


def latest_rehearsals(context: Context) -> tuple[str, list[Rehearsal]]:
    """When the latest one was, and what of it a choice needs; empty where there was none."""
    with context.store() as store:
        row = store.latest_observation(ROLE)
    if row is None:
        return "", []
    return row.taken_at, [
        Rehearsal(
            profile=entry["profile"],
            steps=(StepTime("", entry["seconds"]),),
            round_trip=entry["round_trip"],
            carries_outside=entry["carries_outside"],
            strength=entry["strength"],
            verdict=Fitness(entry["verdict"]),
        )
        for entry in json.loads(row.document)
    ]


def _overall(seen: list[Rehearsal]) -> str:
    order = list(Fitness)
    return str(max((one.verdict for one in seen), key=order.index))


def _csv(seen: list[Rehearsal]) -> str:
    text = io.StringIO()
    rows = [_flat(one) for one in seen]
    writer = csv.DictWriter(text, list(rows[0]) if rows else ["profile"], lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue().rstrip("\n")


def _flat(one: Rehearsal) -> dict[str, object]:
    """A line of the table, for a spreadsheet."""
    document = rehearsal_document(one)
    failure = document["failure"] or {}
    steps = {f"{entry['step']}_seconds": entry["seconds"] for entry in document["steps"]}
    return {
        "profile": one.profile,
        "provider": one.provider,
        "city": one.city,
        "country": one.country,
        "verdict": str(one.verdict),
        "gateway": one.gateway,
        "step_reached": document["step_reached"],
        **{f"{name}_seconds": steps.get(f"{name}_seconds", "") for name in TIMED},
        "round_trip_seconds": document["round_trip"],
        "over": one.over,
        "algorithms": "; ".join(f"{label} {words}" for label, words in document["algorithms"].items()),
        "strength_bits": one.strength,
        "exit_ipv4": one.exit4.address,
        "exit_ipv6": one.exit6.address,
        "operator": one.exit4.operator or one.exit6.operator,
        "exit_country": one.exit4.country or one.exit6.country,
        "resolvers": " ".join(entry.address for entry in one.resolvers),
        "findings": " ".join(entry.code.slug for entry in one.findings),
        "failed_step": failure.get("step", ""),
        "failure": failure.get("code", ""),
        "why": failure.get("why", ""),
    }


TIMED = ("resolve", "reach", "negotiate", "prove", "sign in")
