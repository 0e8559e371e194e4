"""Which rules and routes a tunnel needs, as values: nothing is changed here.

Everything that the tunnel adds is in a table and in rules of its own, so that putting back is deleting:

1. packets to the gateway itself use the machine's own routes (by destination, not by mark: the kernel's reverse
   path check looks answers up without the mark; that nobody else reaches it so is the guard's to see to),
   and never the tunnel;
2. name servers that the gateway carries packets to are reached through the tunnel, even if they would lie in the local
   network;
3. networks that the profile leaves out go as they would without a tunnel. Where all traffic goes through it, the local
   networks, as they were when the tunnel came up, stay reachable too, unless the profile says ``inside``: by routes of
   our own in one more table, never by a router. No other route of the machine counts: what a DHCP server (RFC 3442) or
   a router's advertisement (RFC 4191) adds to its table leads nothing past the tunnel;
4. the rest looks in the tunnel's table, where whatever the profile asks for ends with "unreachable": what the gateway
   does not grant is rejected, and if the tunnel's process dies, nothing leaves until the machine is put back.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

from zesty_burrow.core.net import Address, LocalNetwork, Network
from zesty_burrow.core.profile import Traffic
from zesty_burrow.host.netlink import EVERYWHERE, RT_TABLE_MAIN, Route, Rule
from zesty_burrow.records import dataclass

FIRST_TABLE = 23106
"""Of the tunnel with the first device; each has a table of its own."""
FIRST_RULE = 23000
"""Of a tunnel that takes only some networks: before those of one that takes everything, and ten for each device."""
FIRST_RULE_OF_ALL = 23100
GATEWAY, NAMES, LOCAL, TUNNEL = range(4)
"""A tunnel's rules in their order, from its first one on."""
LOCAL_TABLES = 1000
"""Added to a tunnel's table: its table of local networks."""
LAST_METRIC = 0xFFFF_FFFF
WIDEST_HARMLESS = {4: 7, 6: 16}
"""Prefix lengths up to which a route of somebody else, other than the default one, would take much of all traffic."""


def number_of(device: str) -> int:
    """The number at the end of a tunnel device's name."""
    return int(device.lstrip("abcdefghijklmnopqrstuvwxyz") or 0)


def table_of(device: str) -> int:
    """The routing table of a tunnel device, by its number."""
    return FIRST_TABLE + number_of(device)


def first_rule(device: str, traffic: Traffic) -> int:
    """The priority of a tunnel's first rule. Where two are up, the one that takes less is asked first."""
    return FIRST_RULE_OF_ALL if traffic.everything else FIRST_RULE + 10 * (number_of(device) % 10)


def keeps_from_tunnel(route: Route) -> bool:
    """Whether it keeps packets to one address, a gateway's, from the tunnel itself."""
    return route.kind == "unreachable" and not route.metric


def leads_past(rule: Rule) -> bool:
    """Whether it leads past a tunnel: to a gateway, or to networks that are reached beside it."""
    return FIRST_RULE <= rule.priority <= FIRST_RULE_OF_ALL + TUNNEL and rule.priority % 10 in (GATEWAY, LOCAL)


@dataclass(frozen=True, slots=True)
class RoutingPlan:
    """Routes first, then rules; ``ipv6``: "tunnel", "blocked", "outside" or "untouched"."""

    routes: tuple[Route, ...]
    rules: tuple[Rule, ...]
    ipv6: str


def _host(address: Address) -> str:
    return f"{address}/{address.max_prefixlen}"


def _local_routes(table: int, local: Iterable[LocalNetwork]) -> list[Route]:
    """By their devices alone; two may be in networks of one name, as all are in fe80::/64."""
    return [Route(str(one.network), table, one.device, metric=metric) for metric, one in enumerate(local, start=1)]


def plan_routes(
    device: str,
    outside: Sequence[Address],
    carried: Sequence[Network],
    name_servers: Sequence[Address],
    traffic: Traffic,
    local: Sequence[LocalNetwork] = (),
) -> RoutingPlan:
    """``outside``: addresses routed past the tunnel, e.g. the gateway's; ``carried``: the networks that the
    gateway granted, of the families for which it gave an address; ``local``: the networks that this machine is in
    and that are to be reached (:func:`zesty_burrow.host.guard.local_trust.judge_local`).
    """
    table, first = table_of(device), first_rule(device, traffic)
    families: set[int] = {network.version for network in carried}
    routes = [Route(str(network), table, device) for network in carried]
    ipv6 = _ipv6(families, traffic)
    # What the profile asks for and the gateway does not grant, or the device does not carry any more, is rejected.
    asked = [network for network in traffic.networks if ipv6 != "outside" or network.version == 4]
    inside = [server for server in name_servers if server not in outside and _is_in(server, carried)]
    rules: list[Rule] = []
    closed = [*map(str, asked), *map(str, carried), *([EVERYWHERE[6]] if ipv6 == "blocked" else [])]
    for version in sorted({_version(network) for network in closed} | families):
        rejected = sorted({network for network in closed if _version(network) == version})
        routes += [Route(network, table, kind="unreachable", metric=LAST_METRIC) for network in rejected]
        around = _hosts(outside, version)
        rules += [Rule(version, first + GATEWAY, RT_TABLE_MAIN, address) for address in around]
        # While this machine has no way there, the tunnel's own packets would be led into the tunnel.
        routes += [Route(address, table, kind="unreachable") for address in around]
        rules += [Rule(version, first + NAMES, table, server) for server in _hosts(inside, version)]
        rules += [Rule(version, first + LOCAL, RT_TABLE_MAIN, network) for network in _beside(traffic, version)]
        beside = _local_beside(traffic, local, version)
        routes += _local_routes(table + LOCAL_TABLES, beside)
        rules += [Rule(version, first + LOCAL, table + LOCAL_TABLES, str(network.network)) for network in beside]
        rules.append(Rule(version, first + TUNNEL, table))
    return RoutingPlan(tuple(dict.fromkeys(routes)), tuple(dict.fromkeys(rules)), ipv6)


def _is_in(address: Address, networks: Sequence[Network]) -> bool:
    return any(address in network for network in networks)


def _hosts(addresses: Sequence[Address], version: int) -> list[str]:
    return [_host(address) for address in addresses if address.version == version]


def _version(network: str) -> int:
    return 6 if ":" in network else 4


def _beside(traffic: Traffic, version: int) -> list[str]:
    return [str(network) for network in traffic.beside if network.version == version]


def _ipv6(families: Collection[int], traffic: Traffic) -> str:
    """What becomes of IPv6."""
    if 6 in families:
        return "tunnel"
    if traffic.ipv6 == "outside":
        return "outside"
    return "blocked" if traffic.everything or traffic.ipv6 == "block" else "untouched"


def _local_beside(traffic: Traffic, local: Sequence[LocalNetwork], version: int) -> list[LocalNetwork]:
    """Where the tunnel takes only an office's networks, a local network has no better right to their addresses."""
    if not traffic.everything or traffic.local_network != "outside":
        return []
    return [network for network in local if network.network.version == version]
