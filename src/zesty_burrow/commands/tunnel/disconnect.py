"""``zesty disconnect``: end the tunnel."""

from __future__ import annotations

import time
from argparse import ArgumentParser, Namespace

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.commands.context import Context
from zesty_burrow.errors import StateError
from zesty_burrow.host.journal.lock import END_RECORD, is_left_over, read_end
from zesty_burrow.report.results.tunnel import DisconnectResult

EXAMPLE = "zesty disconnect"
TIMEOUT = 10.0


def add_arguments(parser: ArgumentParser) -> None:
    """No words of its own."""


def run(args: Namespace, context: Context) -> DisconnectResult:
    """Ask the tunnel's process to end, and wait until this machine is put back."""
    answer = ask(context.paths.control, "status")
    if answer is None:
        step = "Run `zesty restore`." if is_left_over(context.paths.journal) else "No tunnel is up."
        raise StateError("no tunnel is up", next_step=step, slug="no-tunnel")
    status = answer.get("status") or {}
    context.paths.journal.with_name(END_RECORD).unlink(missing_ok=True)
    ask(context.paths.control, "disconnect")
    deadline = time.monotonic() + TIMEOUT
    while context.paths.journal.exists() and time.monotonic() < deadline:
        time.sleep(0.02)
    if context.paths.journal.exists():
        raise StateError(
            "the tunnel's process did not restore this machine's settings",
            next_step=f"End process {status.get('process', '')}, then run `zesty restore`.",
        )
    ended = read_end(context.paths.journal)
    restored, left_alone = ended or ((), ())
    return DisconnectResult(str(status.get("profile", "")), restored, left_alone, ended is not None)
