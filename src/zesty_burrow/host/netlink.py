"""Links, addresses, routes and rules of this network namespace, through netlink (pyroute2)."""

from __future__ import annotations

import errno
import ipaddress
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from socket import AF_INET, AF_INET6
from typing import Any

from zesty_burrow.core.net import Network
from zesty_burrow.errors import MachineError, RightsMissing

RT_TABLE_MAIN = 254
ON_LINK_KINDS = ((1, 2), (1, 9))
"""RTN_UNICAST, made by the kernel (RTPROT_KERNEL) or for a router advertisement (RTPROT_RA)."""
IFA_F_NODAD = 0x02
FAMILIES = {4: AF_INET, 6: AF_INET6}
EVERYWHERE = {4: "0.0.0.0/0", 6: "::/0"}


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


class Netlink:
    """A netlink socket of the current network namespace; a context manager.

    The library runs an event loop of its own for each call, which a thread that is inside one already cannot do:
    so the calls are made in a thread beside it.
    """

    def __init__(self) -> None:
        from pyroute2 import IPRoute

        self._worker = ThreadPoolExecutor(max_workers=1, thread_name_prefix="netlink")
        self._socket: Any = self._worker.submit(IPRoute).result()

    def __enter__(self) -> Netlink:
        return self

    def __exit__(self, *_: object) -> None:
        self._worker.submit(self._socket.close).result()
        self._worker.shutdown()

    def _call(
        self, what: str, function: Callable[..., Any], *arguments: Any, missing_ok: bool = False, **kw: Any
    ) -> Any:
        from pyroute2.netlink.exceptions import NetlinkError

        try:
            return self._worker.submit(function, *arguments, **kw).result()
        except NetlinkError as problem:
            gone = (errno.ENOENT, errno.ESRCH, errno.ENODEV, errno.EADDRNOTAVAIL)
            if missing_ok and problem.code in gone:
                return None
            if problem.code in (errno.EPERM, errno.EACCES):
                raise RightsMissing(f"{what} is not allowed", why="it needs CAP_NET_ADMIN") from None
            raise MachineError(f"{what} failed", why=errno.errorcode.get(problem.code, str(problem.code))) from None

    def index(self, name: str) -> int:
        """A link's number; :class:`MachineError` where there is none."""
        found = self._call(f"finding {name}", self._socket.link_lookup, ifname=name)
        if not found:
            raise MachineError(f"there is no network device {name}")
        return int(found[0])

    def set_link(self, name: str, **settings: Any) -> None:
        """Change a link: ``state="up"``, ``mtu=1400``, ``net_ns_fd=…``, ``ifname=…``."""
        self._call(f"setting {name}", self._socket.link, "set", index=self.index(name), **settings)

    def add_pair(self, name: str, peer: str) -> None:
        """A pair of virtual Ethernet devices."""
        self._call(f"adding {name}", self._socket.link, "add", ifname=name, kind="veth", peer=peer)

    def add_address(self, name: str, address: str) -> None:
        """Give a link an address with its prefix length, usable at once.

        Without IFA_F_NODAD an IPv6 address stays tentative until a work queue of the kernel comes round to it.
        """
        interface = ipaddress.ip_interface(address)
        flags: dict[str, Any] = {"flags": IFA_F_NODAD} if interface.version == 6 else {}
        self._call(
            f"adding {address}",
            self._socket.addr,
            "add",
            index=self.index(name),
            address=str(interface.ip),
            prefixlen=interface.network.prefixlen,
            **flags,
        )

    def remove_address(self, name: str, address: str) -> None:
        """Take an address with its prefix length from a link."""
        interface = ipaddress.ip_interface(address)
        self._call(
            f"removing {address}",
            self._socket.addr,
            "del",
            index=self.index(name),
            address=str(interface.ip),
            prefixlen=interface.network.prefixlen,
        )

    def on_link_networks(self) -> list[Network]:
        """The networks that this machine is in, by the kernel's own routes: those of its addresses and, for IPv6, of
        prefixes that a router says are on the link (RFC 4861 §4.6.2). Never one that leads to a gateway.
        """
        found: list[Network] = []
        for family in FAMILIES.values():
            for route in self._call("reading the routes", self._read_routes, family, RT_TABLE_MAIN):
                destination = route.get_attr("RTA_DST")
                leads_on = any(route.get_attr(f"RTA_{name}") for name in ("GATEWAY", "VIA", "MULTIPATH"))
                kind = route["type"], route["proto"]
                if destination and not leads_on and kind in ON_LINK_KINDS:
                    found.append(ipaddress.ip_network(f"{destination}/{route['dst_len']}", strict=False))
        return found

    def _read_routes(self, family: int, table: int) -> tuple[Any, ...]:
        return tuple(self._socket.get_routes(family=family, table=table))

    def _route_arguments(self, route: Route) -> dict[str, Any]:
        arguments: dict[str, Any] = {
            "family": FAMILIES[route.version],
            "dst": route.destination,
            "table": route.table,
            "type": route.kind,
        }
        if route.device:
            arguments["oif"] = self.index(route.device)
        if route.gateway:
            arguments["gateway"] = route.gateway
        if route.metric:
            arguments["priority"] = route.metric
        if route.source:
            arguments["prefsrc"] = route.source
        return arguments

    def add_route(self, route: Route) -> None:
        """Add a route."""
        self._call(
            f"adding the route to {route.destination}", self._socket.route, "add", **self._route_arguments(route)
        )

    def delete_route(self, route: Route) -> None:
        """Delete a route; one that is gone with its device is no error."""
        try:
            arguments = self._route_arguments(route)
        except MachineError:
            return
        what = f"deleting the route to {route.destination}"
        self._call(what, self._socket.route, "del", missing_ok=True, **arguments)

    @staticmethod
    def _rule_arguments(rule: Rule) -> dict[str, Any]:
        arguments: dict[str, Any] = {
            "family": FAMILIES[rule.version],
            "priority": rule.priority,
            "table": rule.table,
            "action": "to_tbl",
        }
        if rule.destination:
            network: Network = ipaddress.ip_network(rule.destination)
            arguments["dst"] = str(network.network_address)
            arguments["dst_len"] = network.prefixlen
        return arguments

    def add_rule(self, rule: Rule) -> None:
        """Add a policy rule."""
        self._call(f"adding rule {rule.priority}", self._socket.rule, "add", **self._rule_arguments(rule))

    def delete_rule(self, rule: Rule) -> None:
        """Delete a policy rule; one that is not there is no error."""
        what = f"deleting rule {rule.priority}"
        self._call(what, self._socket.rule, "del", missing_ok=True, **self._rule_arguments(rule))

    def delete_link(self, name: str) -> None:
        """Delete a link; one that is not there is no error."""
        found = self._call(f"finding {name}", self._socket.link_lookup, ifname=name)
        if found:
            self._call(f"deleting {name}", self._socket.link, "del", index=found[0], missing_ok=True)


def as_fields(value: Route | Rule) -> dict[str, Any]:
    """A route or rule as plain values, for the journal."""
    return asdict(value)
