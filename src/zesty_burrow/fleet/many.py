"""A run over many devices: some at a time, and what one comes to does not stop the others."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from typing import TypeVar

J = TypeVar("J")
R = TypeVar("R")


async def run_all(
    jobs: Sequence[J], work: Callable[[J], Awaitable[R]], at_once: int, done: Callable[[J, R], None]
) -> None:
    """``work``, which must not raise, for each job, some at a time; ``done`` is called as each ends."""
    waiting = iter(jobs)

    async def worker() -> None:
        for job in waiting:
            done(job, await work(job))

    async with asyncio.TaskGroup() as group:
        for _ in range(min(at_once, len(jobs))):
            group.create_task(worker())
