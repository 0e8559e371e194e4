"""Runs a carrier in the background: the caller sees each step and leaves once the tunnel is up."""

from __future__ import annotations

import json
import os
import signal
import sys
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any

from zesty_burrow import errors
from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.errors import BurrowError, ProgramFault


def error_document(error: BurrowError) -> dict[str, str]:
    """An error as plain values."""
    return {
        "class": type(error).__name__,
        "what": error.what,
        "why": error.why,
        "next_step": error.next_step,
        "slug": error.slug,
        "step": error.step,
    }


def error_of(document: dict[str, str]) -> BurrowError:
    """The error that :func:`error_document` told of."""
    kind = getattr(errors, document["class"], ProgramFault)
    error: BurrowError = kind(
        document["what"], why=document["why"], next_step=document["next_step"], slug=document["slug"]
    )
    error.step = document["step"]
    return error


def run_detached(
    log: Path,
    work: Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], object],
    on_step: Callable[[StepReport], None],
) -> TunnelStatus:
    """Run ``work`` in a process of its own; returns once the tunnel is up, raises what prevented that."""
    reading, writing = os.pipe()
    sys.stdout.flush()
    sys.stderr.flush()
    child = os.fork()
    if child == 0:
        os.close(reading)
        _carry_on(log, writing, work)
    os.close(writing)
    try:
        with os.fdopen(reading, "rb") as stream:
            for line in stream:
                document = json.loads(line)
                if "step" in document:
                    on_step(StepReport(**document["step"]))
                elif "up" in document:
                    return TunnelStatus.of(document["up"])
                elif "error" in document:
                    raise error_of(document["error"])
    except KeyboardInterrupt:
        os.kill(child, signal.SIGINT)
        raise
    raise ProgramFault("the tunnel's process ended without a reason", next_step=f"Read {log}.")


def _carry_on(
    log: Path,
    writing: int,
    work: Callable[[Callable[[StepReport], None], Callable[[TunnelStatus], None]], object],
) -> None:
    """The child: its own session, no terminal, a log that only the owner reads. Never returns."""
    code = 1
    try:
        os.setsid()
        descriptor = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o600)
        nothing = os.open(os.devnull, os.O_RDONLY)
        for source, target in ((nothing, 0), (descriptor, 1), (descriptor, 2)):
            os.dup2(source, target)

        listener = os.fdopen(writing, "wb", buffering=0)

        def tell(document: dict[str, Any]) -> None:
            line = json.dumps(document).encode() + b"\n"
            os.write(2, line)
            if not listener.closed:
                with suppress(BrokenPipeError):
                    listener.write(line)

        def up(status: TunnelStatus) -> None:
            tell({"up": status.document()})
            listener.close()

        try:
            end = work(lambda step: tell({"step": asdict(step)}), up)
            os.write(2, json.dumps({"end": str(end)}).encode() + b"\n")
            code = 0
        except BurrowError as error:
            tell({"error": error_document(error)})
            code = error.exit_code
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stderr.flush()
        os._exit(code)
