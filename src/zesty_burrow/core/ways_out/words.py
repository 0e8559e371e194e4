"""Classes of packets in words."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Mapping

from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    OWN,
    PROTOCOL,
    SERVICE,
    SOURCE,
    USER,
)
from zesty_burrow.core.ways_out.classes.partition import Partition
from zesty_burrow.core.ways_out.classes.space import Box, Space

MOST = 4
UNSPECIFIED = ("0.0.0.0", "::")  # noqa: S104
PROTOCOLS = {1: "ICMP", 6: "TCP", 17: "UDP", 47: "GRE", 50: "ESP", 58: "ICMPv6", 132: "SCTP"}


def hull(boxes: Iterable[Box]) -> Box:
    """The smallest box that holds all of these."""
    first, *rest = boxes
    joined = list(first)
    for box in rest:
        joined = [one | other for one, other in zip(joined, box, strict=True)]
    return tuple(joined)


def box_words(space: Space, box: Box, devices: Mapping[int, str], version: int) -> str:
    """What a box says of its packets; for one that says nothing, all of them."""
    parts = []
    for field, classes, partition in zip(space.fields, box, space.partitions, strict=True):
        if classes != partition.all:
            words = _field_words(field, partition, classes, devices, version)
            if words:
                parts.append(words)
    return ", ".join(parts) or "all packets"


def _field_words(field: str, partition: Partition, classes: int, devices: Mapping[int, str], version: int) -> str:
    if field in (ENTRY, BOUND):
        return _device_words(field, partition, classes, devices)
    opposite = partition.all & ~classes
    values, others = (_values(field, partition, some, version) for some in (classes, opposite))
    negated = len(others) < len(values)
    listed = _listed(others if negated else values)
    if field == DESTINATION:
        return f"to {'anything but ' if negated else ''}{listed}"
    if field == SOURCE:
        if listed in UNSPECIFIED:
            return "from a chosen source" if negated else "from no chosen source"
        return f"from {'anything but ' if negated else ''}{listed}"
    if field == USER:
        return f"of {'any user but' if negated else 'user'} {listed}"
    return f"{'no ' if negated else ''}{field} {listed}"


def _device_words(field: str, partition: Partition, classes: int, devices: Mapping[int, str]) -> str:
    spans = partition.intervals(classes)
    if field == ENTRY:
        names = [devices.get(low, str(low)) for low, _ in spans if low != OWN]
        return f"passed on from {_listed(names)}" if names else ""
    if any(low == 0 for low, _ in spans):
        return ""
    names = [devices[number] for number in devices if any(low <= number <= high for low, high in spans)]
    return f"of programs that are bound to {_listed(names)}"


def _values(field: str, partition: Partition, classes: int, version: int) -> list[str]:
    if partition.is_masked:
        whole = (1 << partition.width) - 1
        known = partition.named(classes)
        if known is not None and known.mask not in (-1, whole) and len(known.ranges) == 1:
            return [f"{known.ranges[0][0]:#x}/{known.mask:#x}"]
        return [hex(value) if mask == whole else f"{value:#x}/{mask:#x}" for value, mask in partition.masked(classes)]
    found: list[str] = []
    for low, high in partition.intervals(classes):
        if field in (DESTINATION, SOURCE):
            found += _networks(low, high, version)
        elif field == PROTOCOL and low == high:
            found.append(PROTOCOLS.get(low, str(low)))
        else:
            show = hex if field in (MARK, SERVICE) else str
            found.append(show(low) if low == high else f"{show(low)}-{show(high)}")
        if len(found) > 64:
            break
    return found


def _networks(low: int, high: int, version: int) -> list[str]:
    kind = ipaddress.IPv4Address if version == 4 else ipaddress.IPv6Address
    if version == 4:
        rows = ipaddress.summarize_address_range(ipaddress.IPv4Address(low), ipaddress.IPv4Address(high))
        names = [str(one).removesuffix("/32") for one in rows]
    else:
        rows6 = ipaddress.summarize_address_range(ipaddress.IPv6Address(low), ipaddress.IPv6Address(high))
        names = [str(one).removesuffix("/128") for one in rows6]
    return names if len(names) <= MOST else [f"{kind(low)}-{kind(high)}"]


def _listed(values: list[str]) -> str:
    shown = ", ".join(values[:MOST])
    return f"{shown} and {len(values) - MOST} more" if len(values) > MOST else shown
