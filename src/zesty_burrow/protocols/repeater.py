"""When to send again what was not answered."""

from __future__ import annotations


class Repeater:
    """Begins at ``now``; each wait is twice the one before, ``longest`` at most. ``limit``: when to give up."""

    def __init__(self, now: float, first: float, limit: float, longest: float = 8.0) -> None:
        self.begun, self.due = now, now + first
        self._wait, self._longest, self._end = first, longest, now + limit
        self.tries = 1

    def is_over(self, now: float) -> bool:
        """Whether nothing more is to be waited for."""
        return now >= self._end

    def again(self, now: float) -> bool:
        """Whether it is time for another try, which is counted then."""
        if now < self.due:
            return False
        self._wait = min(self._wait * 2, self._longest)
        self.due = min(now + self._wait, max(self._end, now))
        self.tries += 1
        return True
