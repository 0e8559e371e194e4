"""The kernel's own word on which way a packet takes, beside the map's."""

from __future__ import annotations

import errno
import ipaddress
import sys
from typing import Any

from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    OWN,
    PORT,
    PROTOCOL,
    SERVICE,
    SOURCE,
    SOURCE_PORT,
    USER,
)
from zesty_burrow.core.ways_out.kernel.routing_facts import LOCAL, RoutingFacts
from zesty_burrow.errors import MachineError
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.netlink_messages import attribute, attributes
from zesty_burrow.host.ways_out.routing_tables import FAMILIES, HEAD, RTA_HOPS, RTA_OIF

DST, SRC, IIF, OIF, RTA_MARK, RTA_UID, RTA_IP_PROTOCOL, RTA_SPORT, RTA_DPORT = 1, 2, 3, 4, 16, 25, 27, 28, 29
ASKABLE = {4: (6, 17, 1), 6: (6, 17, 58)}
"""Protocols that the kernel's route lookup takes."""
LOCAL_ANSWER = -1


def device_for(netlink: Netlink, facts: RoutingFacts, packet: dict[str, int]) -> int:
    """The number of the device by which a packet leaves; 0: it is rejected; :data:`LOCAL_ANSWER`: it stays here.

    Raises :class:`MachineError` where the kernel cannot be asked for such a packet.
    """
    size = facts.width // 8
    head = HEAD.pack(
        FAMILIES[facts.version],
        facts.width,
        facts.width if packet[SOURCE] else 0,
        packet[SERVICE] & 0x1C,
        0,
        0,
        0,
        0,
        0,
    )
    content = head + attribute(DST, packet[DESTINATION].to_bytes(size))
    if packet[SOURCE]:
        content += attribute(SRC, packet[SOURCE].to_bytes(size))
    for kind, field in ((RTA_MARK, MARK), (RTA_UID, USER), (OIF, BOUND)):
        if packet[field] or kind == RTA_UID:
            content += _native(kind, packet[field])
    if packet[ENTRY] != OWN:
        content += _native(IIF, packet[ENTRY])
    if packet[PROTOCOL] in ASKABLE[facts.version]:
        content += attribute(RTA_IP_PROTOCOL, bytes([packet[PROTOCOL]]))
    if packet[PROTOCOL] in (6, 17):
        content += attribute(RTA_SPORT, packet[SOURCE_PORT].to_bytes(2))
        content += attribute(RTA_DPORT, packet[PORT].to_bytes(2))
    return _answered(netlink, content)


def _answered(netlink: Netlink, content: bytes) -> int:
    try:
        answers = netlink.ask_route(content)
    except MachineError as problem:
        if problem.number in (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.EINVAL, errno.EPERM):
            return 0
        raise
    for answer in answers:
        kind = answer[7]
        known = attributes(answer[HEAD.size :])
        if kind == LOCAL:
            return LOCAL_ANSWER
        if RTA_OIF in known:
            return int.from_bytes(known[RTA_OIF], sys.byteorder)
        if RTA_HOPS in known:
            return int.from_bytes(known[RTA_HOPS][4:8], sys.byteorder)
    return 0


def _native(kind: int, value: int) -> bytes:
    return attribute(kind, value.to_bytes(4, sys.byteorder))


def packet_words(packet: dict[str, int], version: int) -> str:
    """A packet for people."""
    parts: list[Any] = [f"to {_address(packet[DESTINATION], version)}"]
    parts += [f"from {_address(packet[SOURCE], version)}"] if packet[SOURCE] else []
    parts += [
        f"{name} {packet[name]}" for name in (PROTOCOL, SOURCE_PORT, PORT, MARK, USER, SERVICE, BOUND) if packet[name]
    ]
    return ", ".join(map(str, parts))


def _address(value: int, version: int) -> str:
    return str(ipaddress.IPv4Address(value) if version == 4 else ipaddress.IPv6Address(value))
