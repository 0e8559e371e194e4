"""A buffer of equal slots, one packet to each, with room before and behind for what ESP adds (RFC 4303 §2)."""

from __future__ import annotations

import numpy as np

ROOM = 32
"""Octets before the inner packet: for the offload header of a tunnel device."""
BEHIND = 64
"""Octets behind the longest inner packet: for padding."""


class Slots:
    """``count`` slots for packets of up to ``longest`` octets; ``octets`` is all of it, ``view`` the same memory."""

    def __init__(self, count: int, longest: int, spare: int = 0) -> None:
        self.count = count
        self.longest = longest
        self.stride = (ROOM + longest + BEHIND + 63) & ~63
        self.octets = np.zeros(ROOM + count * self.stride + spare, np.uint8)
        self.view = self.octets.data

    def packet(self, slot: int) -> int:
        """Where the inner packet of a slot begins."""
        return slot * self.stride + ROOM
