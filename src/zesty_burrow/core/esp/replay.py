"""The anti-replay window (RFC 4303 §3.4.3)."""

from __future__ import annotations

WINDOW = 1024


class ReplayWindow:
    """Remembers which of the last ``size`` sequence numbers have come.

    ``check`` before the integrity check costs nothing; ``accept`` only after the ICV has held.
    """

    __slots__ = ("_bits", "_mask", "highest", "size")

    def __init__(self, size: int = WINDOW) -> None:
        self.size = size
        self.highest = 0
        self._bits = 0
        self._mask = (1 << size) - 1

    def whole_number(self, low: int) -> int:
        """The 64-bit number whose lower half came, as the window suggests it (RFC 4303 §A2.1, §A2.2)."""
        top_low, top_high = self.highest & 0xFFFF_FFFF, self.highest >> 32
        bottom_low = (top_low - self.size + 1) & 0xFFFF_FFFF
        if top_low >= self.size - 1:
            high = top_high if low >= bottom_low else top_high + 1
        else:
            # The window lies across a multiple of 2^32.
            high = max(top_high - 1, 0) if low >= bottom_low and top_high else top_high
        return min(high, 0xFFFF_FFFF) << 32 | low

    def check(self, sequence: int) -> bool:
        """Whether a packet of this number may be new."""
        if sequence > self.highest:
            return True
        behind = self.highest - sequence
        return sequence > 0 and behind < self.size and not self._bits >> behind & 1

    def accept(self, sequence: int) -> None:
        """Record a packet whose ICV held."""
        if sequence > self.highest:
            # A leap beyond the window forgets everything; never shift by a number that a stranger chose.
            leap = sequence - self.highest
            self._bits = (self._bits << leap & self._mask if leap < self.size else 0) | 1
            self.highest = sequence
        else:
            self._bits |= 1 << self.highest - sequence

    def take(self, sequence: int) -> bool:
        """Record it if it is new; whether it was."""
        new = self.check(sequence)
        if new:
            self.accept(sequence)
        return new

    def accept_run(self, first: int, count: int) -> None:
        """Record ``count`` packets that follow one another, all of them beyond the highest."""
        last = first + count - 1
        leap = last - self.highest
        ones = (1 << min(count, self.size)) - 1
        self._bits = (self._bits << leap & self._mask if leap < self.size else 0) | ones
        self.highest = last
