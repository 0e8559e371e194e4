"""``zesty inspect``: what is in a kit."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from pathlib import Path

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.kits import read_kits
from zesty_burrow.report.result import KitResult

EXAMPLE = "zesty inspect quillwort-relay.zip"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument(
        "kit", nargs="+", type=Path, help="a file, folder, archive or mail from a provider; - for pasted text"
    )
    parser.add_argument("--provider", default="", help="whose kit it is, where it does not say so itself")


def run(args: Namespace, context: Context) -> KitResult:
    """Read, judge, change nothing."""
    kits = read_kits(args.kit, args.provider, context)
    return KitResult(kits, imported=False, findings=tuple(entry for kit in kits for entry in kit.findings))
