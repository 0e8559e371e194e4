"""``zesty restore``: put this machine back after a crash or a power cut."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.host.journal.journal import restore
from zesty_burrow.report.results.tunnel import RestoreResult

EXAMPLE = "zesty restore"


def add_arguments(parser: ArgumentParser) -> None:
    """No words of its own."""


def run(args: Namespace, context: Context) -> RestoreResult:
    """Undo what the journal names."""
    restored = restore(context.paths.journal)
    context.paths.control.unlink(missing_ok=True)
    return RestoreResult(restored)
