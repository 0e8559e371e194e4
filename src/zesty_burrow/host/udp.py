"""Many UDP datagrams by one call, as the kernel has it (UDP_SEGMENT, UDP_GRO)."""

from __future__ import annotations

UDP_SEGMENT, UDP_GRO = 103, 104
"""Linux ``udp.h``: the length of a segment in what is sent in one piece, and in what was received in one piece."""
SEGMENTS = 64
"""At most so many in one piece: what the first kernels with UDP_SEGMENT take."""
ROOM_IN_PIECE = 65000
BURSTS = 4
"""Bursts that are taken together before the other direction gets its turn."""
WORTH_MORE = 32768
"""Octets of a burst after which another one is likely."""
