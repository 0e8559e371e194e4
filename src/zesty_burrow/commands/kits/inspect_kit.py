"""``zesty inspect``: what is in a kit, and how it compares with what is in the store."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits.kits import add_kit_arguments, kit_request
from zesty_burrow.report.results.kits import KitResult
from zesty_burrow.use_cases.kits.import_kit import inspect_kit

EXAMPLE = "zesty inspect quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    add_kit_arguments(parser)


def run(args: Namespace, context: Context) -> KitResult:
    """Read, judge, compare, change nothing."""
    seen = inspect_kit(kit_request(args, context), context)
    return KitResult(
        seen.kit, imported=False, outcomes=seen.outcomes, findings=seen.findings, differences=seen.differences
    )
