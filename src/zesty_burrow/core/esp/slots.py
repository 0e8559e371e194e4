"""A buffer of equal slots, one packet to each, with room before and behind for what ESP adds (RFC 4303 §2)."""

from __future__ import annotations

import numpy as np

ROOM = 32
"""Octets before the inner packet: for the ESP header and the IV, and for the offload header of a tunnel device."""
BEHIND = 64
"""Octets behind the longest inner packet: for padding and ICV."""


def tight_stride(length: int) -> int:
    """Octets of the ESP packet around one of ``length``, with an IV of 8 octets and an ICV of 16 (RFC 4106 §3, §6)."""
    return 8 + 8 + length + -(length + 2) % 4 + 2 + 16


class Slots:
    """``count`` slots for packets of up to ``longest`` octets; ``octets`` is all of it, ``view`` the same memory.

    ``stride``: from slot to slot, where it is to be as short as what is sealed in place (:func:`tight_stride`).
    """

    def __init__(self, count: int, longest: int, spare: int = 0, stride: int = 0) -> None:
        self.count = count
        self.longest = longest
        self.stride = stride or (ROOM + longest + BEHIND + 63) & ~63
        self.octets = np.zeros(ROOM + count * self.stride + spare, np.uint8)
        self.view = self.octets.data

    def packet(self, slot: int) -> int:
        """Where the inner packet of a slot begins."""
        return slot * self.stride + ROOM
