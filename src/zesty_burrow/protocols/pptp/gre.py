"""GRE as PPTP carries PPP in it (RFC 2637 §4): the header, and numbers of packets."""

from __future__ import annotations

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.records import dataclass

PROTOCOL = 0x880B
KEY, SEQUENCE, ACKNOWLEDGED, VERSION = 0x2000, 0x1000, 0x0080, 1
FIXED = KEY | VERSION
LABELS = frozenset(
    (FIXED | more).to_bytes(2) + PROTOCOL.to_bytes(2)
    for more in (SEQUENCE, ACKNOWLEDGED, SEQUENCE | ACKNOWLEDGED)
)  # fmt: skip
"""How every packet begins."""
HEADER = 16
"""Octets, with both numbers."""
REORDERED = 1 << 31


@dataclass(frozen=True, slots=True)
class GrePacket:
    """``call``: of the receiver; ``number``: None where it only acknowledges."""

    call: int
    number: int | None
    acknowledged: int | None
    payload: bytes


def read_gre(data: bytes) -> GrePacket:
    """Raises :class:`Malformed`."""
    cursor = Cursor(data, "a GRE packet")
    flags, protocol = cursor.u16(), cursor.u16()
    if protocol != PROTOCOL or flags & ~(SEQUENCE | ACKNOWLEDGED) != FIXED:
        raise cursor.fail(f"it is not PPTP's GRE ({flags:#06x}, {protocol:#06x})")
    length, call = cursor.u16(), cursor.u16()
    number = cursor.u32() if flags & SEQUENCE else None
    acknowledged = cursor.u32() if flags & ACKNOWLEDGED else None
    if length > cursor.remaining:
        raise cursor.fail(f"it announces {length} octets, {cursor.remaining} are left")
    return GrePacket(call, number, acknowledged, cursor.take(length))


def write_gre(call: int, number: int | None, acknowledged: int | None, payload: bytes) -> bytes:
    """A packet; without a number it has no payload."""
    flags = FIXED | (SEQUENCE if number is not None else 0) | (ACKNOWLEDGED if acknowledged is not None else 0)
    found = flags.to_bytes(2) + PROTOCOL.to_bytes(2) + len(payload).to_bytes(2) + call.to_bytes(2)
    for one in (number, acknowledged):
        found += (one & 0xFFFF_FFFF).to_bytes(4) if one is not None else b""
    return found + payload


class GreFlow:
    """The numbers of one call, both ways. ``own``, ``peer``: the calls' own numbers at each end."""

    def __init__(self, own: int, peer: int) -> None:
        self.own, self.peer = own, peer
        self._next = 0
        self._highest = -1

    def wrap(self, frame: bytes) -> bytes:
        """A frame of PPP as the next packet; what has come is acknowledged with it."""
        number, self._next = self._next, self._next + 1 & 0xFFFF_FFFF
        return write_gre(self.peer, number, self._highest if self._highest >= 0 else None, frame)

    def unwrap(self, data: bytes) -> bytes:
        """The frame in a packet; empty where it came before, is older, or is another call's. Raises ``Malformed``."""
        packet = read_gre(data)
        if packet.call != self.own or packet.number is None:
            return b""
        if self._highest >= 0 and (packet.number - self._highest - 1 & 0xFFFF_FFFF) >= REORDERED:
            return b""
        self._highest = packet.number
        return packet.payload
