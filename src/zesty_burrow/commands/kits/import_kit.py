"""``zesty import``: store a kit's profiles and credentials; all of it or nothing."""

from __future__ import annotations

import sys
from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.kits import add_kit_arguments, judged_by_policy, read_arguments
from zesty_burrow.commands.kits.settle import add_settling, is_asked, missing_credentials, settled
from zesty_burrow.core.credentials import kind_of
from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.errors import InputError, UsageError
from zesty_burrow.intake.import_plan import BOTH, KEEP, REPLACE, Decide, ImportPlan, ProfileDifference
from zesty_burrow.intake.read_kit import refuse_empty
from zesty_burrow.profiles.compare import Relation
from zesty_burrow.report.reporter import Reporter
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.kits import KitResult

EXAMPLE = "zesty import quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
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
    add_settling(parser)
    parser.add_argument(
        "--ask-gateways",
        action="store_true",
        help="for an authority by itself: put it where a gateway proves itself by it",
    )
    parser.add_argument("--strict", action="store_true", help="import nothing if there is a warning or an error")


def run(args: Namespace, context: Context) -> Result:
    """Read everything, then store it in one transaction."""
    decide, asked = _decision(args, context.reporter)
    profile = ""
    if args.profile:
        with context.store() as store:
            profile = store.find_profile(args.profile)[1].name
    kit = read_arguments(args, context, profile=profile, device=args.device, empty_ok=True)
    if kit.is_empty and kit.authorities:
        from zesty_burrow.commands.kits.authorities import put_in

        return put_in(kit, args, context)
    if kit.is_empty:
        refuse_empty(kit)
    kit = settled(kit, args, context)
    from zesty_burrow.commands.kits.differing import DifferingCredentials

    differing = DifferingCredentials(kit, args, context)
    with context.store() as store:
        plan = ImportPlan(store, decide, differing.decide)
        plan.take(kit)
        findings: list[Finding] = [*kit.findings, *plan.findings, *judged_by_policy(kit, context)]
        if args.strict:
            _refuse_warnings(findings)
        if is_asked(args):
            have = {(row.kind, row.label) for row in store.list_credentials()}
            have |= {(str(kind_of(value)), scope.label) for scope, value, _ in plan.secrets}
            fresh = [one.profile for one in plan.taken.values() if plan.outcomes.get(one.profile.name) == "new"]
            entered = missing_credentials(fresh, have, context)
            plan.secrets += entered
            if entered:
                findings = [one for one in findings if one.code.slug != "kit-no-credentials"]
        what = f"import {kit.origin}"
        store.take_kit(plan.taken.values(), plan.secrets, replacing=plan.replacing, what=what)
    return KitResult(
        kit,
        imported=True,
        outcomes=plan.outcomes,
        findings=tuple(findings),
        differences=tuple(plan.differences),
        asked=asked,
        whom=args.whom or "",
    )


def _decision(args: Namespace, reporter: Reporter) -> tuple[Decide, bool]:
    """What decides about a profile that differs, and whether that is the user on the terminal."""
    chosen = [word for word, said in ((KEEP, args.keep), (REPLACE, args.replace), (BOTH, args.both)) if said]
    if len(chosen) > 1:
        raise UsageError("give only one of --keep, --replace and --both")
    if chosen:
        return (lambda _: chosen[0]), False
    if sys.stdin.isatty() and sys.stderr.isatty():
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


def _refuse_warnings(findings: list[Finding]) -> None:
    notable = [entry for entry in findings if entry.severity is not Severity.NOTE]
    if notable:
        shown = "; ".join(f"{entry.code.slug} in {entry.subject}" for entry in notable[:5])
        raise InputError(
            "nothing was imported, because of --strict",
            why=shown,
            next_step="Correct what the findings name, or import without --strict.",
            slug="strict",
        )
