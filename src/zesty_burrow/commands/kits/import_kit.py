"""``zesty import``: store a kit's profiles and credentials; all of it or nothing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.kits import add_kit_arguments, kit_request
from zesty_burrow.errors import InputError, UsageError
from zesty_burrow.intake.import_plan import BOTH, KEEP, REPLACE, Decide, ProfileDifference
from zesty_burrow.profiles.compare import Relation
from zesty_burrow.records import replace
from zesty_burrow.report.reporter import Reporter
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import ChangesResult, ProfileChanges
from zesty_burrow.report.results.kits import KitResult
from zesty_burrow.use_cases.kits.differing import DifferingRequest
from zesty_burrow.use_cases.kits.import_kit import ComparedKit, ImportRequest, import_kit
from zesty_burrow.use_cases.kits.settle import LEAVE, TAKE, SettleRequest

EXAMPLE = "zesty import quillwort-relay.zip"


TAKE_OR_LEAVE = (TAKE, LEAVE)


def add_arguments(parser: ArgumentParser) -> None:
    add_kit_arguments(parser)
    parser.add_argument("--profile", default="", help="the credentials, or the authority, are for this profile only")
    parser.add_argument("--device", default="", help="the credentials are for this device only")
    differing = parser.add_argument_group(
        "where something differs from what is stored (asked on a terminal; otherwise --keep, and for credentials: what "
        "a gateway has accepted is kept, the rest is replaced)"
    )
    differing.add_argument("--keep", action="store_true", help="keep what is stored")
    differing.add_argument("--replace", action="store_true", help="replace it by the new one")
    differing.add_argument("--both", action="store_true", help="store the new profile under another name as well")
    differing.add_argument(
        "--try-credentials", action="store_true", help="try other credentials at a gateway; replace those that fail"
    )
    open_points = parser.add_argument_group("doubtful or missing settings (asked on a terminal)")
    open_points.add_argument("--later", action="store_true", help="ask nothing; what is missing is left for later")
    open_points.add_argument(
        "--bad-certificates",
        choices=TAKE_OR_LEAVE,
        help="take profiles whose certificates are expired, weak or not fit all the same, or leave them out (take)",
    )
    open_points.add_argument(
        "--doubtful", choices=TAKE_OR_LEAVE, help="take what was read by labels that may mean something else (take)"
    )
    parser.add_argument(
        "--ask-gateways",
        action="store_true",
        help="for an authority by itself: put it where a gateway proves itself by it",
    )
    parser.add_argument("--strict", action="store_true", help="import nothing if there is a warning or an error")


def run(args: Namespace, context: Context) -> Result:
    """Read everything, then store it in one transaction."""
    decide, asked = _decision(args, context.reporter)
    request = ImportRequest(
        kit_request(args, context, profile=args.profile, device=args.device),
        decide,
        DifferingRequest(args.keep, args.replace, args.try_credentials, context.reporter.can_ask and not args.later),
        SettleRequest(args.doubtful or "", args.bad_certificates or "", args.later),
        args.ask_gateways,
        args.strict,
    )
    seen = _with_other_codes(request, context)
    if seen.authorities:
        rows = tuple(ProfileChanges(row.after.name, row.differences) for row in seen.authorities if row.is_changed)
        return ChangesResult(rows, len(seen.authorities) - len(rows), dry_run=False)
    return KitResult(
        seen.kit,
        imported=True,
        outcomes=seen.outcomes,
        findings=seen.findings,
        differences=seen.differences,
        asked=asked,
        whom=args.whom or "",
    )


def _with_other_codes(request: ImportRequest, context: Context) -> ComparedKit:
    """Import; where a QR code is one of several, a terminal is asked for the pictures of the others."""
    while True:
        try:
            return import_kit(request, context)
        except InputError as problem:
            if problem.slug != "code-incomplete" or not context.reporter.can_ask:
                raise
            context.reporter.note(problem.why)
            answer = context.reporter.ask("Picture of another of the codes (Enter to stop): ")
            if not answer:
                raise
            sources = (*request.kit.sources, str(Path(answer).expanduser()))
            request = replace(request, kit=replace(request.kit, sources=sources))


def _decision(args: Namespace, reporter: Reporter) -> tuple[Decide, bool]:
    """What decides about a profile that differs, and whether that is the user on the terminal."""
    chosen = [word for word, said in ((KEEP, args.keep), (REPLACE, args.replace), (BOTH, args.both)) if said]
    if len(chosen) > 1:
        raise UsageError("give only one of --keep, --replace and --both")
    if chosen:
        return (lambda _: chosen[0]), False
    if reporter.can_ask:
        return _Question(reporter), True
    return (lambda _: KEEP), False


class _Question:
    """Shows a difference and asks; an answer may be for all of its kind."""

    def __init__(self, reporter: Reporter) -> None:
        self._reporter = reporter
        self._for_all: dict[Relation, str] = {}

    def __call__(self, difference: ProfileDifference) -> str:
        if difference.relation in self._for_all:
            return self._for_all[difference.relation]
        self._reporter.difference(difference)
        letters = {"k": KEEP, "r": REPLACE, "b": BOTH}
        while True:
            answer = self._reporter.ask(
                "Keep the stored one, replace it, or both? k, r, b; in capitals for all of this kind [k] "
            )
            chosen = letters.get((answer or "k").casefold()[:1])
            if chosen:
                if answer[:1].isupper():
                    self._for_all[difference.relation] = chosen
                return chosen
