"""``zesty inspect``: what is in a kit, and how it stands to what is in the store."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from contextlib import ExitStack

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.import_plan import KEEP, ImportPlan
from zesty_burrow.commands.kits.kits import add_kit_arguments, judged_by_policy, read_kits
from zesty_burrow.report.result import KitResult

EXAMPLE = "zesty inspect quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    add_kit_arguments(parser)


def run(args: Namespace, context: Context) -> KitResult:
    """Read, judge, compare, change nothing."""
    kits = read_kits(args, context)
    with ExitStack() as stack:
        store = stack.enter_context(context.store()) if context.has_store() else None
        sorting = ImportPlan(store, context, KEEP)
        for kit in kits:
            sorting.take_profiles(kit)
    outcomes = {name: "differs" if word == "left out" else word for name, word in sorting.outcomes.items()}
    findings = [*(entry for kit in kits for entry in kit.findings), *sorting.findings, *judged_by_policy(kits, context)]
    return KitResult(
        kits,
        imported=False,
        outcomes=outcomes,
        findings=tuple(findings),
        differences=tuple(sorting.differences),
    )
