"""The steps of a connection, as they are reported: how long each took, and which one comes next."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from zesty_burrow.carrier.control.status import StepReport, TunnelStatus
from zesty_burrow.protocols.session import Step

STEPS = tuple(Step)


class Steps:
    """``following``: the step that is being done, for an error; empty once all are done.

    ``on_step`` is called with each step until the tunnel is up for the first time, ``on_up`` then.
    """

    def __init__(self, on_step: Callable[[StepReport], None], on_up: Callable[[TunnelStatus], None]) -> None:
        self._on_step, self._on_up = on_step, on_up
        self._last = 0.0
        self.following = str(STEPS[0])
        self.silent = False

    def begin(self) -> None:
        """The first step begins now."""
        self._last = asyncio.get_running_loop().time()

    def done(self, step: Step, detail: str = "") -> None:
        """A step is complete."""
        now = asyncio.get_running_loop().time()
        report = StepReport(str(step), now - self._last, detail)
        self._last = now
        self.following = str(STEPS[STEPS.index(step) + 1]) if step is not STEPS[-1] else ""
        if not self.silent:
            self._on_step(report)

    def up(self, status: TunnelStatus) -> None:
        """The tunnel is up. What follows when it comes back is not told again."""
        if not self.silent:
            self.silent = True
            self._on_up(status)
