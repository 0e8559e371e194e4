"""The anti-replay window (RFC 4303 §3.4.3), kept in a ring of 64-bit words (the method of RFC 6479)."""

from __future__ import annotations

import ctypes
from typing import Any

WINDOW = 1024
WORDS = 32
"""Of 64 bits each: at least one more than the window needs, so that words can be cleared before they are used."""
_MASK = WORDS - 1


class WindowState(ctypes.Structure):
    """``highest`` sequence number so far; ``bits``: number n is bit n % 64 of word n / 64 % 32."""

    _fields_ = (("highest", ctypes.c_uint64), ("bits", ctypes.c_uint64 * WORDS))


class ReplayWindow:
    """Remembers which of the last ``size`` sequence numbers have come. ``state`` has the fields of ``WindowState``.

    ``check`` before the integrity check costs nothing; ``accept`` only after the ICV has held.
    """

    __slots__ = ("size", "state")

    def __init__(self, size: int = WINDOW, state: ctypes.Structure | None = None) -> None:
        self.size = size
        self.state: Any = WindowState() if state is None else state

    @property
    def highest(self) -> int:
        """The highest sequence number that was accepted; 0 at first."""
        return int(self.state.highest)

    def whole_number(self, low: int) -> int:
        """The 64-bit number whose lower half came, as the window suggests it (RFC 4303 §A2.1, §A2.2)."""
        highest = int(self.state.highest)
        top_low, top_high = highest & 0xFFFF_FFFF, highest >> 32
        bottom_low = (top_low - self.size + 1) & 0xFFFF_FFFF
        if top_low >= self.size - 1:
            high = top_high if low >= bottom_low else top_high + 1
        else:
            # The window lies across a multiple of 2^32.
            high = max(top_high - 1, 0) if low >= bottom_low and top_high else top_high
        return min(high, 0xFFFF_FFFF) << 32 | low

    def check(self, sequence: int) -> bool:
        """Whether a packet of this number may be new."""
        state = self.state
        behind = state.highest - sequence
        if behind < 0:
            return True
        return sequence > 0 and behind < self.size and not state.bits[sequence >> 6 & _MASK] >> (sequence & 63) & 1

    def accept(self, sequence: int) -> None:
        """Record a packet whose ICV held."""
        state = self.state
        word, last = sequence >> 6, state.highest >> 6
        if sequence > state.highest:
            # At most the whole ring is cleared, however far a stranger's number leaps.
            for index in range(last + 1, last + 1 + min(word - last, WORDS)):
                state.bits[index & _MASK] = 0
            state.highest = sequence
        state.bits[word & _MASK] |= 1 << (sequence & 63)
