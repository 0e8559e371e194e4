"""Calls to a running process over its control socket. Light to load: every look at the status needs it."""

from __future__ import annotations

import json
import socket
import time
from pathlib import Path
from typing import Any

from zesty_burrow.errors import StateError

MAX_ANSWER = 1 << 20
TIMEOUT = 5.0
ENDING = (0.02, 0.08, 0.2, 0.7)
"""Seconds between looks whether a process that has hung up is gone."""


def ask(path: Path, call: str, timeout: float = TIMEOUT) -> dict[str, Any] | None:
    """The answer of a running tunnel, or None where none runs, or it ends instead of answering.

    :class:`StateError` where it does not answer.
    """
    return call_with(path, {"call": call}, timeout)


def call_with(
    path: Path, request: dict[str, Any], timeout: float = TIMEOUT, body: dict[str, Any] | None = None
) -> dict[str, Any] | None:
    """One document there, with a larger one behind it, one back; None where nobody listens."""
    following = json.dumps(body).encode() if body else b""
    if following:
        request = {**request, "octets": len(following)}
    channel = _connected(path, timeout)
    if channel is None:
        return None
    with channel:
        received = b""
        try:
            channel.sendall(json.dumps(request).encode() + b"\n" + following)
            while not received.endswith(b"\n") and len(received) < MAX_ANSWER:
                part = channel.recv(65536)
                if not part:
                    break
                received += part
            document = json.loads(received)
        except (OSError, ValueError) as problem:
            if not received and not isinstance(problem, TimeoutError) and _has_ended(path):
                return None
            raise StateError(
                f"the process that listens on {path} does not answer",
                why=str(problem),
                next_step="It may be stopped: let it continue (kill -CONT), or end it (kill -9) and run `zesty "
                "restore`.",
                slug="tunnel-silent",
            ) from None
    return document if isinstance(document, dict) else None


def _connected(path: Path, timeout: float) -> socket.socket | None:
    channel = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    channel.settimeout(timeout)
    try:
        channel.connect(str(path))
    except (FileNotFoundError, ConnectionRefusedError):
        channel.close()
        return None
    except OSError as problem:
        channel.close()
        raise StateError(f"the control socket {path} cannot be used", why=str(problem)) from None
    return channel


def _has_ended(path: Path) -> bool:
    """Whether a process that closed the connection without an answer was ending: soon nobody listens any more."""
    for pause in ENDING:
        time.sleep(pause)
        channel = _connected(path, TIMEOUT)
        if channel is None:
            return True
        channel.close()
    return False
