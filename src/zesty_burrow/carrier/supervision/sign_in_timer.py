"""When a sign-in has to be repeated (RFC 4478)."""

from __future__ import annotations

import asyncio

SHARE, TIME = 0.9, 2.0
"""How much of the time that a gateway gives is used before a sign-in is repeated; how many of its seconds are left at
least."""
SHORTEST_UP = 5.0
"""Seconds that a tunnel is up at least before a sign-in is repeated, whatever the gateway says."""


class SignInTimer:
    """``wake`` is set when it is time; a new announcement takes the place of the one before."""

    def __init__(self, wake: asyncio.Event) -> None:
        self._wake = wake
        self._at = float("inf")
        self._timer: asyncio.TimerHandle | None = None

    def announce(self, seconds: float) -> None:
        """The gateway gives so many seconds."""
        self.stop()
        loop = asyncio.get_running_loop()
        left = max(min(SHARE * seconds, seconds - TIME), SHORTEST_UP)
        self._at = loop.time() + left
        self._timer = loop.call_later(left, self._wake.set)

    def take_due(self) -> bool:
        """Whether it is time, said once."""
        due = asyncio.get_running_loop().time() >= self._at
        if due:
            self._at = float("inf")
        return due

    def stop(self) -> None:
        """Nothing is due any more."""
        self._at = float("inf")
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
