"""Links, addresses, routes and rules of this network namespace, over rtnetlink.

Numbers are those of the kernel's public headers linux/rtnetlink.h, if_link.h, if_addr.h, fib_rules.h and veth.h.
"""

from __future__ import annotations

import errno
import ipaddress
import struct
import sys
from collections.abc import Iterator
from contextlib import suppress
from socket import AF_INET, AF_INET6, AF_UNSPEC
from typing import Any, NamedTuple

from zesty_burrow.core.net import LocalNetwork, Network
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.netlink_messages import (
    ACK,
    CREATE,
    DUMP,
    EXCLUSIVE,
    answers,
    attribute,
    attributes,
    message,
    nest,
    open_channel,
    text,
)
from zesty_burrow.records import asdict, dataclass

NETLINK_ROUTE = 0
NEW_LINK, DELETE_LINK, GET_LINK = 16, 17, 18
NEW_ADDRESS, DELETE_ADDRESS, GET_ADDRESS = 20, 21, 22
NEW_ROUTE, DELETE_ROUTE, GET_ROUTE = 24, 25, 26
NEW_RULE, DELETE_RULE, GET_RULE = 32, 33, 34
LINK, ADDRESS, ROUTE = struct.Struct("=BxHiII"), struct.Struct("=BBBBI"), struct.Struct("=8BI")
IFLA_LINK, IFLA_MASTER, IFLA_GROUP = 5, 10, 27
IFLA_IFNAME, IFLA_MTU, IFLA_TXQLEN, IFLA_LINKINFO, IFLA_NET_NS_PID, IFLA_GSO_MAX_SIZE = 3, 4, 13, 18, 19, 41
IFLA_AF_SPEC, IFLA_INET6_ADDR_GEN_MODE, ADDR_GEN_MODE_NONE = 26, 8, 1
IFLA_INFO_KIND, IFLA_INFO_DATA, VETH_INFO_PEER = 1, 2, 1
IFA_ADDRESS, IFA_LOCAL, IFA_FLAGS, IFA_F_NODAD = 1, 2, 8, 0x02
RTA_DST, RTA_OIF, RTA_GATEWAY, RTA_PRIORITY, RTA_PREFSRC, RTA_MULTIPATH, RTA_TABLE, RTA_VIA = 1, 4, 5, 6, 7, 9, 15, 18
FRA_DST, FRA_PRIORITY, FRA_TABLE, FR_ACT_TO_TBL = 1, 6, 15, 1
RT_TABLE_UNSPEC, RT_TABLE_MAIN, RT_TABLE_MOST = 0, 254, 255
RTPROT_UNSPEC, RTPROT_KERNEL, RTPROT_STATIC, RTPROT_RA, RTPROT_DHCP = 0, 2, 4, 9, 16
RT_SCOPE_UNIVERSE, RT_SCOPE_LINK, RT_SCOPE_NOWHERE = 0, 253, 255
IFF_UP, IFF_POINTOPOINT, RTM_F_CLONED, RTM_F_FIB_MATCH = 0x1, 0x10, 0x200, 0x2000
RTA_METRICS, RTAX_MTU = 8, 2
ROUTE_KINDS = {1: "unicast", 7: "unreachable"}
KIND_NUMBERS = {name: kind for kind, name in ROUTE_KINDS.items()}
FAMILIES = {4: AF_INET, 6: AF_INET6}
VERSIONS = {family: version for version, family in FAMILIES.items()}
EVERYWHERE = {4: "0.0.0.0/0", 6: "::/0"}
GONE = (errno.ENOENT, errno.ESRCH, errno.ENODEV, errno.EADDRNOTAVAIL)


@dataclass(frozen=True, slots=True)
class Route:
    """A route in a table; ``device`` empty and ``kind`` "unreachable" for one that turns packets away."""

    destination: str
    table: int
    device: str = ""
    gateway: str = ""
    kind: str = "unicast"
    metric: int = 0
    source: str = ""

    @property
    def version(self) -> int:
        """4 or 6."""
        return 6 if ":" in self.destination else 4


@dataclass(frozen=True, slots=True)
class Rule:
    """A policy rule: what goes to ``destination`` (empty: everything) looks in ``table``."""

    version: int
    priority: int
    table: int
    destination: str = ""


class NetworkDevice(NamedTuple):
    """A device. ``type``: by ``if_arp.h``; ``kind``: of a virtual one, as "tun"; ``master``, ``below``: the numbers of
    the bridge that it is a port of, and of the device that it stands on, or 0.
    """

    number: int
    name: str
    flags: int
    mtu: int
    type: int = 0
    kind: str = ""
    master: int = 0
    below: int = 0
    group: int = 0

    @property
    def is_up(self) -> bool:
        """Whether it was brought up."""
        return bool(self.flags & IFF_UP)


class _RouteSeen(NamedTuple):
    route: Route
    protocol: int
    kind: int
    leads_on: bool
    is_copy: bool


def _native(kind: int, value: int) -> bytes:
    return attribute(kind, value.to_bytes(4, sys.byteorder, signed=value < 0))


def _number(value: bytes) -> int:
    return int.from_bytes(value, sys.byteorder)


def _packed(kind: int, address: str) -> bytes:
    return attribute(kind, ipaddress.ip_address(address).packed)


class Netlink:
    """A netlink socket of the current network namespace; a context manager."""

    def __init__(self) -> None:
        self._channel = open_channel(NETLINK_ROUTE)
        self._sequence = 0

    def __enter__(self) -> Netlink:
        return self

    def __exit__(self, *_: object) -> None:
        self._channel.close()

    def _call(
        self, what: str, kind: int, content: bytes, flags: int = 0, *, missing_ok: bool = False
    ) -> list[tuple[int, bytes]]:
        """One request and all of its answers. :class:`RightsMissing` or :class:`MachineError` begin with ``what``."""
        self._sequence += 1
        try:
            self._channel.sendto(message(kind, flags or ACK, self._sequence, content), (0, 0))
            return list(answers(self._channel))
        except OSError as problem:
            if missing_ok and problem.errno in GONE:
                return []
            if problem.errno in (errno.EPERM, errno.EACCES):
                refused = RightsMissing(f"{what} is not allowed", why="it needs CAP_NET_ADMIN")
                refused.number = problem.errno or 0
                raise refused from None
            name = errno.errorcode.get(problem.errno or 0, str(problem))
            error = MachineError(f"{what} failed", why=name)
            error.number = problem.errno or 0
            raise error from None

    # Links.

    def links(self) -> list[NetworkDevice]:
        """All devices of this network namespace."""
        found = []
        for _, content in self._call("reading the devices", GET_LINK, LINK.pack(AF_UNSPEC, 0, 0, 0, 0), DUMP):
            _, kind_of_hardware, index, flags, _ = LINK.unpack_from(content)
            known = attributes(content[LINK.size :])
            name = known.get(IFLA_IFNAME, b"").rstrip(b"\0").decode("utf-8", "surrogateescape")
            kind = attributes(known.get(IFLA_LINKINFO, b"")).get(IFLA_INFO_KIND, b"").rstrip(b"\0").decode()
            wanted = (IFLA_MTU, IFLA_MASTER, IFLA_LINK, IFLA_GROUP)
            mtu, master, below, group = (_number(known.get(one, b"")) for one in wanted)
            found.append(NetworkDevice(index, name, flags, mtu, kind_of_hardware, kind, master, below, group))
        return found

    def _find(self, name: str) -> NetworkDevice | None:
        return next((link for link in self.links() if link.name == name), None)

    def index(self, name: str) -> int:
        """A link's number. Raises :class:`MachineError` if it does not exist."""
        link = self._find(name)
        if link is None:
            raise MachineError(f"there is no network device {name}")
        return link.number

    def set_link(
        self,
        name: str,
        *,
        state: str = "",
        mtu: int = 0,
        txqlen: int = 0,
        gso_max_size: int = 0,
        ifname: str = "",
        net_ns_pid: int = 0,
    ) -> None:
        """Bring a link ``up`` or ``down``, give it another name, hand it to a process's network namespace."""
        up, changed = IFF_UP if state == "up" else 0, IFF_UP if state else 0
        content = LINK.pack(AF_UNSPEC, 0, self.index(name), up, changed)
        for kind, value in (
            (IFLA_MTU, mtu),
            (IFLA_TXQLEN, txqlen),
            (IFLA_GSO_MAX_SIZE, gso_max_size),
            (IFLA_NET_NS_PID, net_ns_pid),
        ):
            content += _native(kind, value) if value else b""
        content += text(IFLA_IFNAME, ifname) if ifname else b""
        self._call(f"setting {name}", NEW_LINK, content)

    def without_own_addresses(self, name: str) -> None:
        """The kernel gives a link no IPv6 address of its own: without one it asks for no router, and believes none.

        A kernel without IPv6 has nothing to turn off.
        """
        mode = nest(IFLA_AF_SPEC, nest(AF_INET6, attribute(IFLA_INET6_ADDR_GEN_MODE, bytes([ADDR_GEN_MODE_NONE]))))
        content = LINK.pack(AF_UNSPEC, 0, self.index(name), 0, 0) + mode
        with suppress(MachineError):
            self._call(f"setting {name}", NEW_LINK, content)

    def add_pair(self, name: str, peer: str) -> None:
        """A pair of virtual Ethernet devices."""
        other = attribute(VETH_INFO_PEER, LINK.pack(AF_UNSPEC, 0, 0, 0, 0) + text(IFLA_IFNAME, peer))
        about = nest(IFLA_LINKINFO, text(IFLA_INFO_KIND, "veth"), nest(IFLA_INFO_DATA, other))
        content = LINK.pack(AF_UNSPEC, 0, 0, 0, 0) + text(IFLA_IFNAME, name) + about
        self._call(f"adding {name}", NEW_LINK, content, ACK | CREATE | EXCLUSIVE)

    def delete_link(self, name: str) -> None:
        """Delete a link; one that is not there is no error."""
        link = self._find(name)
        if link is not None:
            content = LINK.pack(AF_UNSPEC, 0, link.number, 0, 0)
            self._call(f"deleting {name}", DELETE_LINK, content, missing_ok=True)

    def is_up(self, name: str) -> bool:
        """Whether there is such a device and it is up."""
        link = self._find(name)
        return link is not None and bool(link.flags & IFF_UP)

    def mtu(self, name: str) -> int:
        """The largest packet that a device takes; 0 where there is no such device."""
        link = self._find(name)
        return link.mtu if link else 0

    def point_to_point(self) -> list[str]:
        """Devices of tunnels: such as have one other end and no hardware address."""
        return [link.name for link in self.links() if link.flags & IFF_POINTOPOINT]

    # Addresses.

    def add_address(self, name: str, address: str) -> None:
        """Give a link an address with its prefix length, usable at once.

        Without IFA_F_NODAD an IPv6 address stays tentative until a work queue of the kernel comes round to it.
        """
        content = self._address(name, address) + _native(IFA_FLAGS, IFA_F_NODAD if ":" in address else 0)
        self._call(f"adding {address}", NEW_ADDRESS, content, ACK | CREATE | EXCLUSIVE)

    def remove_address(self, name: str, address: str) -> None:
        """Take an address with its prefix length from a link."""
        self._call(f"removing {address}", DELETE_ADDRESS, self._address(name, address))

    def _address(self, name: str, address: str) -> bytes:
        one = ipaddress.ip_interface(address)
        head = ADDRESS.pack(FAMILIES[one.version], one.network.prefixlen, 0, RT_SCOPE_UNIVERSE, self.index(name))
        return head + attribute(IFA_LOCAL, one.ip.packed) + attribute(IFA_ADDRESS, one.ip.packed)

    def addresses(self, name: str) -> list[str]:
        """A device's addresses with their prefix lengths."""
        index, found = self.index(name), []
        for _, content in self._call("reading the addresses", GET_ADDRESS, ADDRESS.pack(AF_UNSPEC, 0, 0, 0, 0), DUMP):
            _, length, _, _, where = ADDRESS.unpack_from(content)
            known = attributes(content[ADDRESS.size :])
            octets = known.get(IFA_LOCAL) or known.get(IFA_ADDRESS, b"")
            if where == index and octets:
                found.append(f"{ipaddress.ip_address(octets)}/{length}")
        return found

    # Routes.

    def _routes(self, version: int) -> Iterator[_RouteSeen]:
        names = {link.number: link.name for link in self.links()}
        content = ROUTE.pack(FAMILIES[version], 0, 0, 0, 0, 0, 0, 0, 0)
        for _, answer in self._call("reading the routes", GET_ROUTE, content, DUMP):
            seen = _route(answer, names)
            if seen is not None and seen.route.version == version and not seen.is_copy:
                yield seen

    def on_link_networks(self) -> list[LocalNetwork]:
        """The networks that this machine is in, by the kernel's own routes: those of its addresses and, for IPv6, of
        prefixes that a router says are on the link (RFC 4861 §4.6.2). Never one that leads to a gateway.
        """
        return [
            LocalNetwork(seen.route.device, ipaddress.ip_network(seen.route.destination, strict=False))
            for version in FAMILIES
            for seen in self._routes(version)
            if seen.route.table == RT_TABLE_MAIN
            and not seen.leads_on
            and seen.kind == KIND_NUMBERS["unicast"]
            and seen.protocol in (RTPROT_KERNEL, RTPROT_RA)
            and seen.route.destination != EVERYWHERE[version]
        ]

    def routes(self, table: int) -> list[Route]:
        """The routes of a table, of both families."""
        return [seen.route for version in FAMILIES for seen in self._routes(version) if seen.route.table == table]

    def routes_by(self, protocol: int) -> list[Route]:
        """The routes that a source has set, as RTPROT_DHCP, of both families."""
        return [seen.route for version in FAMILIES for seen in self._routes(version) if seen.protocol == protocol]

    def device_towards(self, address: str) -> str:
        """By which device a packet to an address would leave now; empty where it would be rejected."""
        target = ipaddress.ip_address(address)
        head = ROUTE.pack(FAMILIES[target.version], target.max_prefixlen, 0, 0, 0, 0, 0, 0, 0)
        try:
            rows = self._call(f"asking for the route to {address}", GET_ROUTE, head + _packed(RTA_DST, address))
        except MachineError:
            return ""
        names = {link.number: link.name for link in self.links()}
        found = [_route(content, names) for _, content in rows]
        return next((seen.route.device for seen in found if seen is not None), "")

    def mtu_towards(self, address: str) -> int:
        """The largest packet that the device and the route to an address take; 0 without a route.

        What the kernel has learnt from messages of the network does not count.
        """
        target = ipaddress.ip_address(address)
        flags = RTM_F_FIB_MATCH
        head = ROUTE.pack(FAMILIES[target.version], target.max_prefixlen, 0, 0, 0, 0, 0, 0, flags)
        links = {link.number: link.mtu for link in self.links()}
        for _, content in self._call(f"asking for {address}", GET_ROUTE, head + _packed(RTA_DST, address)):
            known = attributes(content[ROUTE.size :])
            own = links.get(_number(known.get(RTA_OIF, b"")), 0)
            by_route = _number(attributes(known.get(RTA_METRICS, b"")).get(RTAX_MTU, b""))
            return min(own, by_route) if by_route else own
        return 0

    def add_route(self, route: Route, protocol: int = RTPROT_STATIC) -> None:
        """Add a route, with its source."""
        what = f"adding the route to {route.destination}"
        scope = RT_SCOPE_LINK if route.device and not route.gateway and route.version == 4 else RT_SCOPE_UNIVERSE
        content = self._route_content(route, protocol, scope)
        self._call(what, NEW_ROUTE, content, ACK | CREATE | EXCLUSIVE)

    def delete_route(self, route: Route) -> None:
        """Delete a route; one that is gone with its device is no error."""
        try:
            content = self._route_content(route, RTPROT_UNSPEC, RT_SCOPE_NOWHERE)
        except MachineError:
            return
        self._call(f"deleting the route to {route.destination}", DELETE_ROUTE, content, missing_ok=True)

    def _route_content(self, route: Route, protocol: int, scope: int) -> bytes:
        network = ipaddress.ip_network(route.destination)
        small = route.table if route.table <= RT_TABLE_MOST else RT_TABLE_UNSPEC
        kind = KIND_NUMBERS[route.kind]
        head = ROUTE.pack(FAMILIES[route.version], network.prefixlen, 0, 0, small, protocol, scope, kind, 0)
        content = head + _native(RTA_TABLE, route.table)
        if network.prefixlen:
            content += attribute(RTA_DST, network.network_address.packed)
        if route.device:
            content += _native(RTA_OIF, self.index(route.device))
        if route.gateway:
            content += _packed(RTA_GATEWAY, route.gateway)
        if route.metric:
            content += attribute(RTA_PRIORITY, route.metric.to_bytes(4, sys.byteorder))
        if route.source:
            content += _packed(RTA_PREFSRC, route.source)
        return content

    # As the kernel answers, for the map of all ways out.

    def dump_rules(self, family: int) -> list[bytes]:
        """All policy rules of a family, in their order: contents of messages."""
        content = ROUTE.pack(family, 0, 0, 0, 0, 0, 0, 0, 0)
        return [answer for _, answer in self._call("reading the rules", GET_RULE, content, DUMP) if answer[0] == family]

    def dump_routes(self, family: int) -> list[bytes]:
        """All routes of all tables of a family: contents of messages."""
        content = ROUTE.pack(family, 0, 0, 0, 0, 0, 0, 0, 0)
        return [answer for _, answer in self._call("reading the routes", GET_ROUTE, content, DUMP)]

    def ask_route(self, content: bytes) -> list[bytes]:
        """The kernel's answer to a question for a route. :class:`MachineError`, with its ``number``, for a refusal."""
        return [answer for _, answer in self._call("asking for a route", GET_ROUTE, content)]

    # Rules.

    def rules(self) -> list[Rule]:
        """All policy rules of both families that lead to a table."""
        found = []
        for version, family in FAMILIES.items():
            content = ROUTE.pack(family, 0, 0, 0, 0, 0, 0, 0, 0)
            for _, answer in self._call("reading the rules", GET_RULE, content, DUMP):
                seen, length, _, _, small, _, _, action, _ = ROUTE.unpack_from(answer)
                known = attributes(answer[ROUTE.size :])
                if seen != family or action != FR_ACT_TO_TBL:
                    continue
                target = f"{ipaddress.ip_address(known[FRA_DST])}/{length}" if FRA_DST in known else ""
                table = _number(known[FRA_TABLE]) if FRA_TABLE in known else small
                found.append(Rule(version, _number(known.get(FRA_PRIORITY, b"")), table, target))
        return found

    def add_rule(self, rule: Rule) -> None:
        self._call(f"adding rule {rule.priority}", NEW_RULE, _rule_content(rule), ACK | CREATE | EXCLUSIVE)

    def delete_rule(self, rule: Rule) -> None:
        """Delete a policy rule; one that is not there is no error."""
        self._call(f"deleting rule {rule.priority}", DELETE_RULE, _rule_content(rule), missing_ok=True)


def _rule_content(rule: Rule) -> bytes:
    network: Network | None = ipaddress.ip_network(rule.destination) if rule.destination else None
    small = rule.table if rule.table <= RT_TABLE_MOST else RT_TABLE_UNSPEC
    length = network.prefixlen if network else 0
    content = ROUTE.pack(FAMILIES[rule.version], length, 0, 0, small, 0, 0, FR_ACT_TO_TBL, 0)
    content += _native(FRA_TABLE, rule.table) + _native(FRA_PRIORITY, rule.priority)
    return content + (attribute(FRA_DST, network.network_address.packed) if network else b"")


def _route(content: bytes, names: dict[int, str]) -> _RouteSeen | None:
    """A route in an answer; None where it is of no family that we know. ``is_copy``: the kernel only remembers it."""
    family, length, _, _, small, protocol, _, kind, flags = ROUTE.unpack_from(content)
    if family not in VERSIONS:
        return None
    known = attributes(content[ROUTE.size :])
    target = known.get(RTA_DST)
    destination = f"{ipaddress.ip_address(target)}/{length}" if target else EVERYWHERE[VERSIONS[family]]
    name = ROUTE_KINDS.get(kind, str(kind))
    device = names.get(_number(known.get(RTA_OIF, b"")), "") if name != "unreachable" else ""
    gateway = str(ipaddress.ip_address(known[RTA_GATEWAY])) if RTA_GATEWAY in known else ""
    table = _number(known[RTA_TABLE]) if RTA_TABLE in known else small
    leads_on = any(one in known for one in (RTA_GATEWAY, RTA_VIA, RTA_MULTIPATH))
    route = Route(destination, table, device, gateway, name)
    return _RouteSeen(route, protocol, kind, leads_on, bool(flags & RTM_F_CLONED))


def as_fields(value: Route | Rule) -> dict[str, Any]:
    """A route or rule as plain values, for the journal."""
    return asdict(value)
