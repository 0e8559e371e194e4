"""What the path to a peer takes: between what anybody on the way can claim and what was confirmed (RFC 8899).

A message "too big" proves nothing (RFC 8899 §4.6.1): it can be forged by anyone who knows the peers' addresses. So it
makes us look, and what is confirmed counts. Where nobody confirms anything, what is claimed does. Values only.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable

LEAST_PATH = 1280
"""Octets: the least of IPv6 (RFC 8200 §5), and more than the 1200 that RFC 8899 §5.1.2 begins with."""
STEP = 16
"""Octets to which a search is exact."""
AGAIN, RAISE = 30.0, 600.0
"""Seconds until a claim that was found false is looked at again; and until a larger path is tried (RFC 8899 §5.1.1)."""


class PathSize:
    """``confirmed``: the largest IP packet that was seen to arrive, 0 until there was a search."""

    def __init__(self) -> None:
        self.confirmed = 0
        self.wants_search = False
        self.claim = 0
        self._size = 0
        self._searched_at = float("-inf")
        self._in_vain_at = float("-inf")

    def look(self, most: int, widest: int, now: float) -> int:
        """The size to keep to. ``most``: what the kernel believes; ``widest``: what this machine's own link takes."""
        if most >= widest:
            # Nobody claims anything, or no more.
            if not 0 < self.confirmed < widest:
                self._size, self.confirmed, self.wants_search = widest, 0, False
                return widest
            self.claim = widest
            self.wants_search = now - self._searched_at >= RAISE
        elif now - self._in_vain_at < RAISE:
            self._size, self.confirmed = most, 0
        elif not self.confirmed:
            self._size, self.claim, self.wants_search = self._size or most, most, True
        else:
            lower = most < self.confirmed
            fresh = now - self._searched_at < (AGAIN if lower and most == self.claim else RAISE)
            self.wants_search = not fresh or (lower and most != self.claim)
            self.claim = most
        self._size = min(self.confirmed or self._size, widest)
        return self._size

    def doubt(self) -> None:
        """A search goes on for so long that the claim may be true: it counts until the search is done."""
        self._size, self.confirmed = self.claim, 0

    def found(self, confirmed: int, now: float) -> None:
        """A search has ended; 0: nobody has answered."""
        self.wants_search = False
        if confirmed:
            self.confirmed, self._searched_at = confirmed, now
        else:
            self.confirmed, self._in_vain_at = 0, now


async def search(arrives: Callable[[int], Awaitable[bool]], claim: int, widest: int) -> int:
    """The largest packet that arrives, within ``STEP``; 0 where not even the least does, as nobody answers."""
    if not await arrives(LEAST_PATH):
        return 0
    if await arrives(widest):
        return widest
    low, high = LEAST_PATH, widest
    if low < claim < high:
        # Usually true, where the widest does not arrive.
        low, high = (claim, high) if await arrives(claim) else (low, claim)
        if low == claim and not await arrives(min(claim + STEP, widest)):
            return claim
    while high - low > STEP:
        middle = (low + high) // 2
        low, high = (middle, high) if await arrives(middle) else (low, middle)
    return low
