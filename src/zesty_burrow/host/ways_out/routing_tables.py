"""Policy rules, routes and devices with everything that the kernel looks at, over rtnetlink.

Numbers are those of the kernel's public headers linux/fib_rules.h and linux/rtnetlink.h.
"""

from __future__ import annotations

import ipaddress
import struct
import sys
from collections.abc import Iterator, Mapping
from pathlib import Path
from socket import AF_INET, AF_INET6

from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    PORT,
    PROTOCOL,
    SERVICE,
    SOURCE,
    SOURCE_PORT,
    USER,
    Condition,
)
from zesty_burrow.core.ways_out.kernel import routing_facts as kinds
from zesty_burrow.core.ways_out.kernel.routing import SERVICE_BITS
from zesty_burrow.core.ways_out.kernel.routing_facts import Hop, PolicyRule, RouteFact, RoutingFacts
from zesty_burrow.host.netlink import Netlink, NetworkDevice
from zesty_burrow.host.netlink_messages import attributes

FAMILIES = {4: AF_INET, 6: AF_INET6}
WIDTHS = {4: 32, 6: 128}
HEAD = struct.Struct("=8BI")
NEXT_HOP = struct.Struct("=HBBi")
DST, SRC, IN_NAME, GOTO, PRIORITY, FWMARK, TUNNEL_ID = 1, 2, 3, 4, 6, 10, 12
SUPPRESS_GROUP, SUPPRESS_LENGTH, TABLE, FWMASK, OUT_NAME, L3MDEV, USERS = 13, 14, 15, 16, 17, 19, 20
IP_PROTOCOL, SOURCE_PORTS, PORTS, DSCP, FLOW_LABEL = 22, 23, 24, 25, 26
SOURCE_PORT_MASK, PORT_MASK, DSCP_MASK = 28, 29, 30
INVERT, IN_DETACHED, OUT_DETACHED, FIND_SOURCE = 0x2, 0x8, 0x10, 0x10000
ACTIONS = {1: kinds.TO_TABLE, 2: kinds.GO_TO, 3: kinds.NOTHING, 6: kinds.REJECT, 7: kinds.REJECT, 8: kinds.REJECT}
RTA_SRC, RTA_OIF, RTA_GATEWAY, RTA_METRIC, RTA_HOPS, RTA_TABLE, RTA_VIA, RTA_ENCAP_TYPE = 2, 4, 5, 6, 9, 15, 18, 21
CLONED, DEAD, LINK_DOWN = 0x200, 0x1, 0x10
SETTINGS = Path("/proc/sys/net")


def _native(value: bytes) -> int:
    return int.from_bytes(value, sys.byteorder)


def _name(value: bytes) -> str:
    return value.rstrip(b"\0").decode("utf-8", "surrogateescape")


def read_routing(netlink: Netlink, version: int) -> RoutingFacts:
    """All of one version of IP. Raises :class:`MachineError`."""
    links = {link.number: link for link in netlink.links()}
    rules = tuple(_rule(answer, version, links) for answer in netlink.dump_rules(FAMILIES[version]))
    tables: dict[int, list[RouteFact]] = {}
    undecided: list[str] = []
    for answer in netlink.dump_routes(FAMILIES[version]):
        _read_route(answer, version, links, tables, undecided)
    merged = {table: tuple(_merged(routes, version)) for table, routes in tables.items()}
    devices = {number: link.name for number, link in links.items() if link.is_up}
    if any(link.kind == "vrf" for link in links.values()):
        undecided.append("a device of a routing domain of its own (VRF)")
    forwards = tuple(number for number, name in devices.items() if number != kinds.LOCAL and _forwards(version, name))
    own = tuple(address for name in devices.values() for address in netlink.addresses(name))
    mine = tuple(one.partition("/")[0] for one in own if (":" in one) == (version == 6))
    return RoutingFacts(version, devices, tuple(rules), merged, forwards, mine, tuple(dict.fromkeys(undecided)))


def _forwards(version: int, device: str) -> bool:
    if version == 6 and _setting("ipv6/conf/all/forwarding") == "0":
        return False
    return _setting(f"ipv{version}/conf/{device}/forwarding") == "1"


def _setting(path: str) -> str:
    try:
        return (SETTINGS / path).read_text().strip()
    except OSError:
        return ""


# Rules.


def _rule(answer: bytes, version: int, links: Mapping[int, NetworkDevice]) -> PolicyRule:
    _, to_length, from_length, service, small, _, _, action, flags = HEAD.unpack_from(answer)
    known = attributes(answer[HEAD.size :])
    conditions = list(_addresses(known, to_length, from_length, version))
    conditions += [*_marks_and_users(known), *_transport(known), *_service(known, service, version)]
    by_device = list(_devices(known, links))
    domains = L3MDEV in known and bool(_native(known[L3MDEV]))
    vrf = any(link.kind == "vrf" for link in links.values())
    never = bool(flags & (IN_DETACHED | OUT_DETACHED)) or None in by_device or (domains and not vrf)
    what = ACTIONS.get(action, "")
    return PolicyRule(
        _native(known.get(PRIORITY, b"")),
        () if never else ((*conditions, *(one for one in by_device if one is not None)),),
        what or kinds.NOTHING,
        _native(known[TABLE]) if TABLE in known else small,
        _native(known.get(GOTO, b"")),
        bool(flags & INVERT),
        _signed(known.get(SUPPRESS_LENGTH)),
        _signed(known.get(SUPPRESS_GROUP)),
        _undecided(known, flags, action, in_domain=domains and vrf),
    )


def _devices(known: Mapping[int, bytes], links: Mapping[int, NetworkDevice]) -> Iterator[Condition | None]:
    """None for a device that is not there: the rule then matches nothing."""
    for kind, field in ((IN_NAME, ENTRY), (OUT_NAME, BOUND)):
        if kind in known:
            number = next((n for n, link in links.items() if link.name == _name(known[kind])), 0)
            yield Condition.equals(field, number) if number else None


def _undecided(known: Mapping[int, bytes], flags: int, action: int, *, in_domain: bool) -> str:
    """Why it cannot be known what a rule does; empty where it can."""
    if in_domain:
        return "a rule of routing domains (l3mdev)"
    if flags & FIND_SOURCE and SRC in known:
        return "a rule for source addresses that the kernel has yet to choose"
    special = any(kind in known for kind in (TUNNEL_ID, FLOW_LABEL, SOURCE_PORT_MASK, PORT_MASK))
    if special and not _is_plain(known):
        return "a rule for something that is not looked at (tunnel, flow label or masked ports)"
    return "" if action in ACTIONS else f"a rule with action {action}"


def _is_plain(known: Mapping[int, bytes]) -> bool:
    """Whether masks of ports are whole, as the kernel lists them also where nobody has given any."""
    masks = (known.get(SOURCE_PORT_MASK), known.get(PORT_MASK))
    whole = all(mask is None or _native(mask) in (0, 0xFFFF) for mask in masks)
    return whole and TUNNEL_ID not in known and FLOW_LABEL not in known


def _signed(value: bytes | None) -> int:
    return int.from_bytes(value, sys.byteorder, signed=True) if value else -1


def _addresses(known: Mapping[int, bytes], to_length: int, from_length: int, version: int) -> Iterator[Condition]:
    for kind, length, field in ((DST, to_length, DESTINATION), (SRC, from_length, SOURCE)):
        if kind in known and length:
            yield Condition.prefix(field, int.from_bytes(known[kind]), length, WIDTHS[version])


def _marks_and_users(known: Mapping[int, bytes]) -> Iterator[Condition]:
    mark, mask = _native(known.get(FWMARK, b"")), _native(known.get(FWMASK, b""))
    if mask or mark:
        yield Condition.equals(MARK, mark, mask or 0xFFFF_FFFF)
    if USERS in known:
        yield Condition(USER, (struct.unpack("=II", known[USERS]),))


def _transport(known: Mapping[int, bytes]) -> Iterator[Condition]:
    if IP_PROTOCOL in known:
        yield Condition.equals(PROTOCOL, known[IP_PROTOCOL][0])
    for kind, field in ((SOURCE_PORTS, SOURCE_PORT), (PORTS, PORT)):
        if kind in known:
            yield Condition(field, (struct.unpack("=HH", known[kind][:4]),))


def _service(known: Mapping[int, bytes], service: int, version: int) -> Iterator[Condition]:
    if DSCP in known:
        mask = known[DSCP_MASK][0] << 2 if DSCP_MASK in known else 0xFC
        yield Condition.equals(SERVICE, known[DSCP][0] << 2, mask)
    elif service:
        yield Condition.equals(SERVICE, service, SERVICE_BITS if version == 4 else 0xFC)


# Routes.


def _read_route(
    answer: bytes,
    version: int,
    links: Mapping[int, NetworkDevice],
    tables: dict[int, list[RouteFact]],
    undecided: list[str],
) -> None:
    family, length, source_length, service, small, _, _, kind, flags = HEAD.unpack_from(answer)
    if family != FAMILIES[version] or flags & CLONED or not 1 <= kind <= kinds.THROW:
        return
    known = attributes(answer[HEAD.size :])
    hops = tuple(_hops(known, flags, version, links))
    if kind not in (*kinds.REJECTING, kinds.THROW) and not hops:
        return
    if RTA_ENCAP_TYPE in known:
        undecided.append("a route that wraps packets (light-weight tunnel)")
    value = int.from_bytes(known.get(DST, b""))
    network = ipaddress.ip_network((value, length)) if version == 4 else ipaddress.IPv6Network((value, length))
    table = _native(known[RTA_TABLE]) if RTA_TABLE in known else small
    by = ", ".join(dict.fromkeys(links[hop.device].name for hop in hops if hop.device in links))
    words = f"{network}{f' by {by}' if by else ''} in table {_table(table)}"
    fact = RouteFact(
        value, length, kind, _native(known.get(RTA_METRIC, b"")), hops, service & SERVICE_BITS if version == 4 else 0,
        int.from_bytes(known.get(RTA_SRC, b"")), source_length, words,
    )  # fmt: skip
    tables.setdefault(table, []).append(fact)


def _table(number: int) -> str:
    return {255: "local", 254: "main", 253: "default"}.get(number, str(number))


def _hops(known: Mapping[int, bytes], flags: int, version: int, links: Mapping[int, NetworkDevice]) -> Iterator[Hop]:
    if RTA_HOPS in known:
        rest = known[RTA_HOPS]
        while len(rest) >= NEXT_HOP.size:
            size, hop_flags, _, device = NEXT_HOP.unpack_from(rest)
            if size < NEXT_HOP.size:
                return
            if _is_alive(hop_flags, version, device, links):
                yield _hop(device, attributes(rest[NEXT_HOP.size : size]), links)
            rest = rest[(size + 3) & ~3 :]
    elif RTA_OIF in known:
        device = _native(known[RTA_OIF])
        if _is_alive(flags, version, device, links):
            yield _hop(device, known, links)


def _hop(device: int, known: Mapping[int, bytes], links: Mapping[int, NetworkDevice]) -> Hop:
    gateway = known.get(RTA_GATEWAY, b"") or known.get(RTA_VIA, b"")[2:]
    words = str(ipaddress.ip_address(gateway)) if len(gateway) in (4, 16) else ""
    return Hop(device, words, links[device].group if device in links else 0)


def _is_alive(flags: int, version: int, device: int, links: Mapping[int, NetworkDevice]) -> bool:
    if flags & DEAD or device not in links or not links[device].is_up:
        return False
    if not flags & LINK_DOWN:
        return True
    path = f"ipv{version}/conf/%s/ignore_routes_with_linkdown"
    return "1" not in (_setting(path % "all"), _setting(path % links[device].name))


def _merged(routes: list[RouteFact], version: int) -> Iterator[RouteFact]:
    """Routes between which the kernel chooses by itself are one with all their next hops."""
    alike: dict[tuple[int, ...], list[RouteFact]] = {}
    for route in routes:
        same = route.kind == kinds.UNICAST and (version == 6 or route.length == 0)
        own = (route.value, route.length, route.metric, route.service, route.source_value, route.source_length)
        alike.setdefault(own if same else (*own, len(alike) + 1), []).append(route)
    for some in alike.values():
        first = some[0]
        hops = tuple(dict.fromkeys(hop for route in some for hop in route.hops))
        yield RouteFact(
            first.value, first.length, first.kind, first.metric, hops, first.service, first.source_value,
            first.source_length, first.words,
        )  # fmt: skip
