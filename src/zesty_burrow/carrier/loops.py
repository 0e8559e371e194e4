"""How a data path works on octets: by columns at first; by compiled loops from when it carries much.

What compiles them, numba, is large: it costs a hundred megabytes and most of a second, and the first time on a machine
half a minute more. So that is spent on a tunnel that has shown that it needs it, in a process of its own where it can
be. Run as a program this compiles them and keeps them.
"""

from __future__ import annotations

import asyncio
import importlib
import importlib.util
import logging
import os
import sys
import time
from asyncio.subprocess import DEVNULL
from collections.abc import Callable

from zesty_burrow.carrier.keeping import is_whole, kept_safely, note_whole
from zesty_burrow.carrier.way import Way

log = logging.getLogger(__name__)
NAME = "compiled-loops"
COLUMNS, COMPILING, COMPILED = "columns", "columns, loops being compiled", "compiled loops"
MISSING, LEFT_OUT, FAILED = "columns, numba is not installed", "columns by choice", "columns, not to be compiled"
WORTH, WITHIN = 20_000, 10.0
"""So many packets in so many seconds are much."""
LONGEST = 300.0
"""Seconds that compiling may take."""
_WAY = "zesty_burrow.carrier.beside"


class Loops:
    """What one data path works with. ``use`` is told when that changes; ``said``: in words."""

    def __init__(self, use: Callable[[Way], None], *, left_out: bool = False) -> None:
        self._use = use
        self._packets, self._since = 0, time.monotonic()
        self._task: asyncio.Task[None] | None = None
        self.said = LEFT_OUT if left_out else COLUMNS
        if not left_out and importlib.util.find_spec("numba") is None:
            self.said = MISSING

    def carried(self, packets: int) -> None:
        """So many more."""
        self._packets += packets
        if self._packets >= WORTH:
            now = time.monotonic()
            if now - self._since <= WITHIN and self.said == COLUMNS:
                self.said = COMPILING
                self._task = asyncio.get_running_loop().create_task(self._load())
            self._packets, self._since = 0, now

    async def _load(self) -> None:
        began = time.monotonic()
        try:
            if sys.byteorder != "little" or sys.maxsize < 1 << 32:
                raise OSError("they are written for machines of 64 bits that put the low octet first")
            if not kept_safely():
                raise OSError("there is no folder of our own to keep compiled loops in")
            if not is_whole():
                await _compile()
            way = await asyncio.to_thread(importlib.import_module, _WAY)
            self._use(way.WAY)
        except Exception as problem:
            # Whatever a compiler may have to say, the tunnel goes on as before.
            self.said = FAILED
            log.warning("loops cannot be compiled, so the tunnel stays slower: %s", problem)
        else:
            self.said = COMPILED
            log.debug("compiled loops are in use after %.1f s", time.monotonic() - began)


async def _compile() -> None:
    """In a process of its own, out of the way of the packets; what it keeps is then only read here."""
    words = sys.executable, "-P", "-m", __name__
    process = await asyncio.create_subprocess_exec(*words, stdin=DEVNULL, stdout=DEVNULL, stderr=DEVNULL)
    try:
        async with asyncio.timeout(LONGEST):
            if await process.wait():
                raise OSError(f"the compiling process ended with {process.returncode}")
    finally:
        if process.returncode is None:
            process.kill()


if __name__ == "__main__":
    os.nice(10)
    if kept_safely():
        importlib.import_module(_WAY)
        note_whole()
