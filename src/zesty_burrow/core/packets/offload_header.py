"""The header before each packet of a tunnel device with offloads (``struct virtio_net_hdr``, VIRTIO 1.2 §5.1.6).

Ten octets in the machine's order: flags, kind, length of the headers, size of a segment, where the checksum begins,
and where in what follows it is put.
"""

from __future__ import annotations

import functools
import struct
from typing import NamedTuple

SIZE = 10
NEEDS_CHECKSUM = 1
WHOLE, TCP4, TCP6, UDP = 0, 1, 4, 5
ECN = 0x80
_FORM = struct.Struct("<BBHHHH")
NOTHING = bytes(SIZE)


class Offload(NamedTuple):
    """``kind``: whether and how it is to be split, in pieces of ``size``; ``start``, ``place``: of the checksum."""

    flags: int
    kind: int
    headers: int
    size: int
    start: int
    place: int

    def octets(self) -> bytes:
        """As they stand before the packet."""
        return _FORM.pack(self.flags, self.kind, self.headers, self.size, self.start, self.place)


@functools.lru_cache(maxsize=512)
def read_offload(octets: bytes) -> Offload | None:
    """The header; None where all of it is zero, which is a packet as it is."""
    fields = _FORM.unpack(octets)
    return Offload(*fields) if fields[0] & NEEDS_CHECKSUM or fields[1] else None
