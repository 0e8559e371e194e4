"""Runs a carrier in the background: the caller sees each step and leaves once the tunnel is up."""

from __future__ import annotations

import json
import logging
import os
import signal
import sys
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.carrier.control.log_lines import LogLines, write
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.errors import BurrowError, ProgramFault, StateError, as_error, error_document, error_of
from zesty_burrow.interrupt import deliver_end_signals, hold_end_signals, raise_once
from zesty_burrow.records import asdict

if TYPE_CHECKING:
    from _typeshed import DataclassInstance

END_TIMEOUT = 15.0
"""Seconds in which a carrier that is to end has put everything back."""


def run_detached(
    log: Path,
    work: Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], DataclassInstance],
    on_step: Callable[[StepReport], None],
) -> TunnelStatus:
    """Run ``work`` in a process of its own; returns once the tunnel is up, raises what prevented that."""
    reading, writing = os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    hold_end_signals()
    child = os.fork()
    if child == 0:
        os.close(reading)
        _carry_on(log, writing, work)
    signal.signal(signal.SIGINT, raise_once)
    try:
        deliver_end_signals()
        os.close(writing)
        with os.fdopen(reading, "rb") as stream:
            for line in stream:
                document = json.loads(line)
                if "step" in document:
                    on_step(StepReport(**document["step"]))
                elif "up" in document:
                    # It is up, and says so: from here on Ctrl-C is too late, `disconnect` ends it.
                    signal.signal(signal.SIGINT, signal.SIG_IGN)
                    return TunnelStatus.of(document["up"])
                elif "error" in document:
                    raise error_of(document["error"])
                elif "end" in document:
                    raise StateError(
                        "the tunnel was ended before it was up",
                        why=document["end"]["reason"],
                        next_step="Connect again if that was not meant.",
                        slug="ended-early",
                    )
    except KeyboardInterrupt:
        _end(child)
        raise
    raise ProgramFault("the tunnel's process ended without a reason", next_step=f"Read {log}.")


def _end(child: int) -> None:
    """Have the carrier end, and wait until this machine is put back."""
    os.kill(child, signal.SIGINT)
    until = time.monotonic() + END_TIMEOUT
    while time.monotonic() < until:
        with suppress(ChildProcessError):
            if os.waitpid(child, os.WNOHANG)[0] == 0:
                time.sleep(0.02)
                continue
        return


def _carry_on(
    log: Path,
    writing: int,
    work: Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], DataclassInstance],
) -> None:
    """The child: its own session, no terminal, a log that only the owner reads. Never returns.

    The signals that end it wait until the carrier takes them.
    """
    code = 1
    listener = os.fdopen(writing, "wb", buffering=0)
    try:
        os.setsid()
        descriptor = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
        nothing = os.open(os.devnull, os.O_RDONLY)
        for source, target in ((nothing, 0), (descriptor, 1), (descriptor, 2)):
            os.dup2(source, target)

        logging.basicConfig(handlers=[LogLines(descriptor)], level=min(logging.root.level, logging.INFO), force=True)

        def tell(level: str, event: str, document: dict[str, Any]) -> None:
            write(descriptor, level, event, **document[event])
            if not listener.closed:
                with suppress(BrokenPipeError):
                    listener.write(json.dumps(document).encode() + b"\n")

        def up(status: TunnelStatus) -> None:
            tell("info", "up", {"up": status.document()})
            listener.close()

        try:
            end = work(lambda step: tell("info", "step", {"step": asdict(step)}), up)
            write(descriptor, "info", "end", **asdict(end))
            if not listener.closed:
                with suppress(BrokenPipeError):
                    listener.write(json.dumps({"end": {"reason": str(getattr(end, "reason", ""))}}).encode() + b"\n")
            code = 0
        except BurrowError as error:
            tell("error", "error", {"error": error_document(error)})
            code = error.exit_code
    except BaseException as problem:
        write(2, "error", "fault", trace="".join(traceback.format_exception(problem)))
        told = as_error(problem)
        code = told.exit_code
        if not listener.closed:
            with suppress(OSError):
                listener.write(json.dumps({"error": error_document(told)}).encode() + b"\n")
    finally:
        sys.stderr.flush()
        os._exit(code)
