"""What else in the kernel can send packets another way: traffic control and IPsec policies."""

from __future__ import annotations

import struct
import sys
from collections.abc import Iterator
from contextlib import suppress

from zesty_burrow.host.netlink_messages import DUMP, answers, attributes, message, open_channel

NETLINK_ROUTE, NETLINK_XFRM = 0, 6
GET_QDISC, GET_POLICY = 38, 0x15
TCM = struct.Struct("=BxxxiIII")
TCA_KIND = 1
REDIRECTING = frozenset({"clsact", "ingress"})
POLICY_INDEX = slice(56 + 64 + 32 + 4, 56 + 64 + 32 + 4 + 4)
"""In ``struct xfrm_userpolicy_info``, behind selector, limits, current values and priority; its lowest bits are the
direction.
"""
XFRM_POLICY_OUT = 1


def other_deciders(devices: dict[int, str]) -> Iterator[str]:
    """In words, each once."""
    found: list[str] = []
    with suppress(OSError):
        found += _traffic_control(devices)
    with suppress(OSError):
        if _has_policies():
            found.append("policies of the kernel's own IPsec")
    yield from dict.fromkeys(found)


def _dump(protocol: int, kind: int, content: bytes) -> list[bytes]:
    with open_channel(protocol) as channel:
        channel.sendto(message(kind, DUMP, 1, content), (0, 0))
        return [answer for _, answer in answers(channel)]


def _traffic_control(devices: dict[int, str]) -> Iterator[str]:
    for answer in _dump(NETLINK_ROUTE, GET_QDISC, TCM.pack(0, 0, 0, 0, 0)):
        _, device, _, _, _ = TCM.unpack_from(answer)
        kind = attributes(answer[TCM.size :]).get(TCA_KIND, b"").rstrip(b"\0").decode()
        if kind in REDIRECTING and device in devices:
            yield f"rules of traffic control at {devices[device]} ({kind})"


def _has_policies() -> bool:
    """Whether any policy is for packets that leave. The socket policies that every kernel lists are for none."""
    rows = _dump(NETLINK_XFRM, GET_POLICY, b"")
    return any(len(row) > 164 and _direction(row) == XFRM_POLICY_OUT for row in rows)


def _direction(row: bytes) -> int:
    return int.from_bytes(row[POLICY_INDEX], sys.byteorder) & 7
