"""``zesty import``: take a kit into the store; all of it or nothing."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.import_plan import ASK, ImportPlan, choice_of
from zesty_burrow.commands.kits.kits import add_kit_arguments, judged_by_policy, read_kits
from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.errors import InputError
from zesty_burrow.report.result import KitResult

EXAMPLE = "zesty import quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_kit_arguments(parser)
    parser.add_argument("--profile", default="", help="the credentials are for this profile alone")
    parser.add_argument("--device", default="", help="the credentials are for this device alone")
    differing = parser.add_argument_group(
        "where a profile differs from one of its name (asked for on a terminal, else kept)"
    )
    differing.add_argument("--keep", action="store_true", help="the old one stays")
    differing.add_argument("--replace", action="store_true", help="the new one takes its place")
    differing.add_argument("--both", action="store_true", help="the new one is taken under another name")
    parser.add_argument("--strict", action="store_true", help="take nothing if there is a warning or worse")


def run(args: Namespace, context: Context) -> KitResult:
    """Read everything, then store it in one transaction."""
    choice, quiet = choice_of(args.keep, args.replace, args.both)
    profile = ""
    if args.profile:
        with context.store() as store:
            profile = store.find_profile(args.profile)[1].name
    kits = read_kits(args, context, profile=profile, device=args.device)
    with context.store() as store:
        findings: list[Finding] = [entry for kit in kits for entry in kit.findings]
        sorting = ImportPlan(store, context, choice, quiet_default=quiet)
        sorting.take(kits)
        findings += [*sorting.findings, *judged_by_policy(kits, context)]
        if args.strict:
            _refuse_warnings(findings)
        store.take_kit(sorting.taken.values(), sorting.secrets, replacing=sorting.replacing)
    return KitResult(
        kits,
        imported=True,
        outcomes=sorting.outcomes,
        findings=tuple(findings),
        differences=tuple(sorting.differences),
        asked=choice == ASK,
        whom=args.whom or "",
    )


def _refuse_warnings(findings: list[Finding]) -> None:
    notable = [entry for entry in findings if entry.severity is not Severity.NOTE]
    if notable:
        shown = "; ".join(f"{entry.code.slug} in {entry.subject}" for entry in notable[:5])
        raise InputError(
            "nothing was taken, because of --strict",
            why=shown,
            next_step="Mend what the findings name, or import without --strict.",
            slug="strict",
        )
