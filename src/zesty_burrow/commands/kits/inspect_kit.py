"""``zesty inspect``: what is in a kit, and how it compares with what is in the store."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from contextlib import ExitStack

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.kits import add_kit_arguments, judged_by_policy, read_arguments
from zesty_burrow.intake.import_plan import KEEP, ImportPlan
from zesty_burrow.report.results.kits import KitResult

EXAMPLE = "zesty inspect quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_kit_arguments(parser)


def run(args: Namespace, context: Context) -> KitResult:
    """Read, judge, compare, change nothing."""
    kit = read_arguments(args, context, empty_ok=True)
    with ExitStack() as stack:
        store = stack.enter_context(context.store()) if context.has_store() else None
        plan = ImportPlan(store, lambda _: KEEP)
        plan.take_profiles(kit)
    outcomes = {name: "differs" if word == "left out" else word for name, word in plan.outcomes.items()}
    findings = (*kit.findings, *plan.findings, *judged_by_policy(kit, context))
    return KitResult(kit, imported=False, outcomes=outcomes, findings=findings, differences=tuple(plan.differences))
