"""What tunnelling does to the headers of an inner packet: congestion marks, traffic class, TCP segment size."""

from __future__ import annotations

from zesty_burrow.core.net import TCP
from zesty_burrow.core.packets.checksum import checksum

NOT_ECT, ECT1, ECT0, CE = 0, 1, 2, 3
"""RFC 3168 §5."""
SYN = 0x02
_MSS_OPTION = 2


def traffic_class(head: bytes | memoryview) -> int:
    """DSCP and ECN of a packet (RFC 2474 §3, RFC 3168 §5)."""
    return head[1] if head[0] >> 4 == 4 else (head[0] & 0xF) << 4 | head[1] >> 4


def outer_class(inner: int, dscp: int | None) -> int:
    """Of the outer header: ECN as the inner has it (RFC 6040 §4.1, normal mode); DSCP as chosen, None as the inner."""
    return inner if dscp is None else dscp << 2 | inner & 3


def take_congestion(view: memoryview, at: int, length: int, outer: int) -> bool:
    """Hand the outer header's ECN on to the inner one (RFC 6040 §4.2); False where the packet has to be dropped.

    Both ECT(1) outside ECT(0) and CE outside ECT are carried in; CE outside Not-ECT says to drop.
    """
    if length < (20 if view[at] >> 4 == 4 else 40):
        return False
    marked, inner = outer & 3, traffic_class(view[at : at + 2])
    if inner & 3 == NOT_ECT:
        return marked != CE
    if marked == CE or (marked == ECT1 and inner & 3 == ECT0):
        if view[at] >> 4 == 4:
            size = (view[at] & 0xF) * 4
            view[at + 1] = inner & 0xFC | marked
            view[at + 10 : at + 12] = b"\0\0"
            view[at + 10 : at + 12] = checksum(view[at : at + size]).to_bytes(2)
        else:
            view[at + 1] = view[at + 1] & 0xCF | marked << 4
    return True


def clamp_tcp_mss(view: memoryview, at: int, length: int, mtu: int) -> bool:
    """Lower the MSS that a TCP SYN asks for to what a tunnel of this MTU carries whole (RFC 9293 §3.7.1).

    Whether anything was changed. The checksum is adjusted (RFC 1624 §3), so it stays as right or wrong as it was.
    """
    version = view[at] >> 4
    if length < {4: 20, 6: 40}.get(version, length + 1):
        return False
    start = at + ((view[at] & 0xF) * 4 if version == 4 else 40)
    protocol = view[at + 9] if version == 4 else view[at + 6]
    fragment = version == 4 and (view[at + 6] & 0x1F or view[at + 7])
    if protocol != TCP or fragment or start + 20 > at + length or not view[start + 13] & SYN:
        return False
    most = max(mtu - (40 if version == 4 else 60), 0)
    place, end = start + 20, min(start + (view[start + 12] >> 4) * 4, at + length)
    while place + 1 < end and view[place]:
        if view[place] == 1:
            place += 1
            continue
        size = view[place + 1]
        if view[place] == _MSS_OPTION and size == 4 and place + 4 <= end:
            return _lower(view, start, place + 2, most)
        place += max(size, 2)
    return False


def _lower(view: memoryview, start: int, place: int, most: int) -> bool:
    asked = int.from_bytes(view[place : place + 2])
    if asked <= most:
        return False
    view[place : place + 2] = most.to_bytes(2)
    # An option may begin at an odd octet: its two octets then belong to different words (RFC 1071 §2.B).
    swap = (place - start) & 1
    before, after = ((one >> 8 | (one & 0xFF) << 8) if swap else one for one in (asked, most))
    known = int.from_bytes(view[start + 16 : start + 18])
    total = (known ^ 0xFFFF) + (before ^ 0xFFFF) + after
    view[start + 16 : start + 18] = (0xFFFF - (total % 0xFFFF or 0xFFFF)).to_bytes(2)
    return True
