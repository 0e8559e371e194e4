"""``zesty restore``: put this machine back after a crash or a power cut."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace

from zesty_burrow.commands.context import Context
from zesty_burrow.report.results.tunnel import RestoreResult
from zesty_burrow.use_cases.tunnel.disconnect import restore_machine

EXAMPLE = "zesty restore"


def add_arguments(parser: ArgumentParser) -> None:
    """No words of its own."""


def run(args: Namespace, context: Context) -> RestoreResult:
    """What a dead tunnel has left."""
    done = restore_machine(context)
    return RestoreResult(done.restored, done.opened, done.put_back)
