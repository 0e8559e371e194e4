"""What the outside sees without a tunnel, looked at while `connect` prepares, by a process with a time limit."""

from __future__ import annotations

import json
import os
import select
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from zesty_burrow.core.outside.reach import KEY
from zesty_burrow.errors import BurrowError
from zesty_burrow.host.guard.presence import is_in_force

if TYPE_CHECKING:
    from zesty_burrow.core.outside.observation import Observation
    from zesty_burrow.use_cases.workspace import Workspace

PATIENCE = 0.3
"""Seconds that `connect` waits for it, at most."""
MOST = 1 << 20
MOMENT = timedelta(minutes=10)


class LookBefore:
    """One look, begun with the object. ``finish`` says whether it was kept."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._reading, writing = os.pipe()
        self._process = os.fork()
        if self._process == 0:
            code = 1
            try:
                os.close(self._reading)
                _observe(workspace, writing)
                code = 0
            finally:
                os._exit(code)
        os.close(writing)

    def finish(self) -> bool:
        """Wait a little, and keep what was seen, to compare with later. From then on it sends nothing more."""
        from zesty_burrow.core.outside.observation import read_observation
        from zesty_burrow.use_cases.verification.verify import baseline, keep_as_before

        data, until = b"", time.monotonic() + PATIENCE
        while len(data) < MOST and select.select([self._reading], [], [], max(until - time.monotonic(), 0))[0]:
            part = os.read(self._reading, 1 << 16)
            if not part:
                break
            data += part
        self.end()
        try:
            seen = read_observation(json.loads(data))
            keep_as_before(_with_reached(seen, baseline(self._workspace)), self._workspace)
        except (ValueError, BurrowError):
            return False
        return True

    def end(self) -> None:
        """It asks nobody anything more."""
        if self._process == 0:
            return
        with suppress(ProcessLookupError):
            os.kill(self._process, signal.SIGKILL)
        os.waitpid(self._process, 0)
        os.close(self._reading)
        self._process = 0


def _with_reached(seen: Observation, earlier: Observation | None) -> Observation:
    """With what `verify --before --reach` has seen a moment ago, from the same addresses: that takes too long here."""
    if earlier is None or KEY not in earlier.more or (seen.ipv4, seen.ipv6) != (earlier.ipv4, earlier.ipv6):
        return seen
    apart = datetime.fromisoformat(seen.taken_at) - datetime.fromisoformat(earlier.taken_at)
    return seen.with_evidence({KEY: earlier.more[KEY]}) if apart < MOMENT else seen


def _observe(workspace: Workspace, writing: int) -> None:
    from zesty_burrow.observe.client import Observer, require_reached
    from zesty_burrow.use_cases.observatories import observatories

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    observatory = observatories(workspace, "")[0]
    observation = Observer(observatory, lambda _: None).observe(extended=False)
    require_reached(observation, observatory.host)
    os.write(writing, json.dumps(observation.document()).encode())


@contextmanager
def looking_before(workspace: Workspace) -> Iterator[LookBefore | None]:
    """None where nobody can be asked, or where something is closed or carried already."""
    looking = LookBefore(workspace) if _is_open(workspace) else None
    try:
        yield looking
    finally:
        if looking is not None:
            looking.end()


def _is_open(workspace: Workspace) -> bool:
    from zesty_burrow.use_cases.observatories import observatories

    try:
        if is_in_force() or any(paths.control.exists() for paths in workspace.paths.tunnels):
            return False
        return bool(observatories(workspace, ""))
    except BurrowError:
        return False
