"""The administrator's own programs, run when something happens to a tunnel: up, lost, back, down, blocked.

Each executable file in a folder is run, one after the other, with the event as its only argument and one JSON document
on its standard input. They get a clean environment, and no part in the tunnel: it does not wait for them.
"""

from __future__ import annotations

import json
import logging
import os
import queue
import stat
import subprocess
import threading
from collections.abc import Mapping
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from zesty_burrow.carrier.control.log_lines import note

log = logging.getLogger(__name__)
ENVIRONMENT = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}
TIMEOUT = 30.0
"""Seconds after which a program is ended."""
MAX_WAITING = 64
"""Events that may wait for programs; more are dropped, and noted."""


class Hooks:
    """``folder``: where the programs are; there need not be any."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._events: queue.Queue[tuple[str, dict[str, Any]] | None] = queue.Queue(MAX_WAITING)
        self._thread: threading.Thread | None = None

    def tell(self, event: str, particulars: Mapping[str, Any]) -> None:
        """Something has happened; returns at once."""
        if not self._folder.is_dir():
            return
        if self._thread is None:
            self._thread = threading.Thread(target=self._work, name="hooks", daemon=True)
            self._thread.start()
        time = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
        try:
            self._events.put_nowait((event, {"event": event, "time": time, **particulars}))
        except queue.Full:
            note(log, logging.WARNING, "hook", of=event, why="the programs before it take too long")

    def finish(self) -> None:
        """Wait until all have run, but not for ever."""
        if self._thread is not None:
            with suppress(queue.Full):
                self._events.put_nowait(None)
            self._thread.join(TIMEOUT)

    def _work(self) -> None:
        while (one := self._events.get()) is not None:
            event, document = one
            for program in self._programs():
                _run(program, event, json.dumps(document).encode() + b"\n")

    def _programs(self) -> list[Path]:
        try:
            _require_ours(self._folder)
            found = sorted(self._folder.iterdir())
        except OSError as problem:
            note(log, logging.WARNING, "hook", program=str(self._folder), why=str(problem))
            return []
        return [one for one in found if not one.name.startswith(".") and os.access(one, os.X_OK) and one.is_file()]


def _require_ours(path: Path) -> None:
    """``PermissionError`` for what another user may have written: it would run with this process's rights."""
    status = path.stat()
    if status.st_uid not in (0, os.geteuid()) or status.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise PermissionError(f"other users may write to {path}: it is not run")


def _run(program: Path, event: str, document: bytes) -> None:
    why = ""
    try:
        _require_ours(program)
        ended = subprocess.run(
            [str(program), event],
            input=document,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=ENVIRONMENT,
            cwd="/",
            timeout=TIMEOUT,
            start_new_session=True,
        )
        why = f"it ended with {ended.returncode}" if ended.returncode else ""
    except subprocess.TimeoutExpired:
        why = f"it was ended after {TIMEOUT:g} seconds"
    except OSError as problem:
        why = str(problem)
    note(log, logging.WARNING if why else logging.INFO, "hook", of=event, program=str(program), why=why or "done")
