"""How often the other side may ask for what costs this one much."""

from __future__ import annotations

BURST, EVERY = 20, 0.5
"""New keys at once; and seconds until one more, so that a storm of them takes a small part of a processor's time."""


class Pace:
    """``allows`` says whether one more is taken at this moment; what is not taken is asked for again later."""

    def __init__(self, burst: int = BURST, every: float = EVERY) -> None:
        self._burst, self._every = burst, every
        self._left = float(burst)
        self._at: float | None = None

    def allows(self, now: float) -> bool:
        """One more at ``now``, in seconds of any clock that does not go back."""
        gained = 0.0 if self._at is None else max(now - self._at, 0.0) / self._every
        self._left, self._at = min(self._left + gained, float(self._burst)), now
        if self._left < 1:
            return False
        self._left -= 1
        return True
