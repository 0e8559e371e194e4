"""When a data path goes over to the fast path: once it carries much.

numba, which compiles the loops, costs a hundred megabytes and most of a second, and the first time on a machine half a
minute more. So that is spent on a tunnel that has shown that it needs it, in a process of its own where possible. Run
as a program this compiles the loops and keeps them.
"""

from __future__ import annotations

import asyncio
import importlib
import importlib.util
import logging
import os
import sys
import threading
import time
from asyncio.subprocess import DEVNULL
from collections.abc import Callable
from contextlib import suppress
from typing import Any, Protocol

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.fast_path.compile_cache import CompileCache, is_complete, mark_complete, one_at_a_time
from zesty_burrow.carrier.fast_path.selector import running_selector

log = logging.getLogger(__name__)
PLAIN, COMPILING, COMPILED = "packet by packet", "packet by packet, the loops are being compiled", "compiled loops"
MISSING, DISABLED = "packet by packet, numba is not installed", "packet by packet, the fast path is disabled"
FAILED = "packet by packet, the loops cannot be compiled"
WORTH, WITHIN = 2_000, 5.0
"""So many packets in so many seconds are much."""
COMPILE_TIMEOUT = 300.0
"""Seconds that compiling may take."""
_MODULE = "zesty_burrow.carrier.fast_path.fast_path"


class Switched(Protocol):
    """What goes over: ``loops`` is set once they carry."""

    loops: Any


class FastPathSwitch:
    """``words``: which path carries, and why. ``clock``: seconds."""

    def __init__(
        self, *, disabled: bool = False, compiler: str = "numba", clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._clock = clock
        self._packets, self._since = 0, clock()
        self._task: asyncio.Task[None] | None = None
        self.words = DISABLED if disabled else PLAIN
        if not disabled and importlib.util.find_spec(compiler) is None:
            self.words = MISSING

    def is_due(self, packets: int) -> bool:
        """Count more packets; whether it is time to go over to the fast path."""
        self._packets += packets
        if self._packets < WORTH or self.words != PLAIN:
            return False
        now = self._clock()
        due = now - self._since <= WITHIN
        self._packets, self._since = 0, now
        return due

    def begin(self, path: Switched) -> None:
        """Go over to it as soon as the loops are there."""
        self.words = COMPILING
        self._task = asyncio.get_running_loop().create_task(self._load(path))

    def begin_again(self) -> None:
        """Packets go one by one for the present."""
        self.words = PLAIN

    def cancel(self) -> None:
        """Stop loading the compiled loops."""
        if self._task is not None:
            self._task.cancel()

    async def _load(self, path: Switched) -> None:
        began = time.monotonic()
        try:
            if sys.byteorder != "little" or sys.maxsize < 1 << 32:
                raise OSError("the loops need a 64-bit little-endian machine")
            if not CompileCache().choose_folder():
                raise OSError("there is no folder for compiled loops that only this user can write")
            if not is_complete():
                await _compile()
            module = await _load_beside()
            path.loops = module.attach(path, running_selector())
        except Exception as problem:
            # Whatever a compiler may complain about, the tunnel goes on.
            self.words = FAILED
            note(log, logging.WARNING, "fast path not compiled", why=str(problem))
        else:
            self.words = COMPILED if path.loops is not None else PLAIN
            note(log, logging.DEBUG, "fast path in use", after_seconds=round(time.monotonic() - began, 1))


async def _load_beside() -> Any:
    """The loops, loaded in a thread for which nobody waits at the end: with a damaged cache it compiles."""
    loop = asyncio.get_running_loop()
    loaded: asyncio.Future[Any] = loop.create_future()

    def settle(set_it: Callable[[Any], None], value: Any) -> None:
        if not loaded.done():
            set_it(value)

    def load() -> None:
        try:
            answer = loaded.set_result, importlib.import_module(_MODULE)
        except Exception as problem:
            answer = loaded.set_exception, problem  # type: ignore[assignment]
        with suppress(RuntimeError):  # the loop has ended
            loop.call_soon_threadsafe(settle, *answer)

    threading.Thread(target=load, name="loading loops", daemon=True).start()
    return await loaded


async def _compile() -> None:
    """In a process of its own, out of the way of the packets; what it keeps is only read here."""
    words = sys.executable, "-P", "-m", __name__
    process = await asyncio.create_subprocess_exec(*words, stdin=DEVNULL, stdout=DEVNULL, stderr=DEVNULL)
    try:
        async with asyncio.timeout(COMPILE_TIMEOUT):
            if await process.wait():
                raise OSError(f"the compiling process ended with {process.returncode}")
    finally:
        if process.returncode is None:
            process.kill()
            await process.wait()


if __name__ == "__main__":
    os.nice(10)
    if CompileCache().choose_folder():
        with one_at_a_time():
            if not is_complete():
                importlib.import_module(_MODULE)
                mark_complete()
