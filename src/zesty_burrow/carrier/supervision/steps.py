"""The steps of a connection, as they are reported: how long each took, and which one comes next."""

from __future__ import annotations

import asyncio

from zesty_burrow.carrier.control.status import StepReport
from zesty_burrow.protocols.session import Step

STEPS = tuple(Step)


class Steps:
    """``following``: the step that is being done, for an error; empty once all are done. ``silent``: the tunnel was up
    before, and steps are not reported again.
    """

    def __init__(self) -> None:
        self._last = 0.0
        self.following = str(STEPS[0])
        self.silent = False

    def begin(self) -> None:
        """The first step begins now."""
        self._last = asyncio.get_running_loop().time()

    def done(self, step: Step, detail: str) -> StepReport | None:
        """A step is complete; what is to be told of it."""
        now = asyncio.get_running_loop().time()
        report = StepReport(str(step), now - self._last, detail)
        self._last = now
        self.following = str(STEPS[STEPS.index(step) + 1]) if step is not STEPS[-1] else ""
        return None if self.silent else report
