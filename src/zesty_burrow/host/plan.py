"""Which rules and routes a tunnel needs, as values: nothing is changed here.

Everything that the tunnel adds is in a table and in rules of its own, so that putting back is deleting:

1. packets to the gateway itself use the machine's own routes (by destination, not by mark: the kernel's reverse
   path check looks answers up without the mark);
2. name servers that the gateway carries packets to are reached through the tunnel, even if they would lie in the local
   network;
3. networks that the profile leaves out go as they would without a tunnel; the local networks, as they were when the
   tunnel came up, stay reachable too, unless the profile says ``inside``. No other route of the machine counts: what a
   DHCP server (RFC 3442) or a router's advertisement (RFC 4191) adds to its table leads nothing past the tunnel;
4. the rest looks in the tunnel's table, where whatever the profile asks for ends with "unreachable": what the gateway
   does not grant is rejected, and if the tunnel's process dies, nothing leaves until the machine is put back.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.profile import Traffic
from zesty_burrow.host.netlink import EVERYWHERE, RT_TABLE_MAIN, Route, Rule

FIRST_TABLE = 23106
"""Of the tunnel with the first device; each has a table of its own."""
PRIORITY_GATEWAY, PRIORITY_NAMES, PRIORITY_LOCAL, PRIORITY_TUNNEL = 23100, 23101, 23102, 23103
LAST_METRIC = 0xFFFF_FFFF
MAX_LOCAL = 64


def table_of(device: str) -> int:
    """The routing table of a tunnel device, by the number at the end of its name."""
    return FIRST_TABLE + int(device.lstrip("abcdefghijklmnopqrstuvwxyz") or 0)


@dataclass(frozen=True, slots=True)
class RoutingPlan:
    """Routes first, then rules; ``ipv6``: "tunnel", "blocked", "outside" or "untouched"."""

    routes: tuple[Route, ...]
    rules: tuple[Rule, ...]
    ipv6: str


def local_networks(found: Iterable[Network]) -> tuple[Network, ...]:
    """Those of the size of a local network: a hostile one that claims half of all addresses gets nothing for it."""
    kept = [network for network in found if network.prefixlen >= _least_prefix(network)]
    return tuple(dict.fromkeys(kept))[:MAX_LOCAL]


def _least_prefix(network: Network) -> int:
    if network.version == 6:
        return 10 if network.is_link_local else 48
    return 8 if network.is_private else 20


def plan_routes(
    device: str,
    gateway: Address,
    carried: Sequence[Network],
    name_servers: Sequence[Address],
    traffic: Traffic,
    local: Sequence[Network] = (),
) -> RoutingPlan:
    """``carried``: the networks that the gateway granted, of the families for which it gave an address; ``local``: the
    networks that this machine is in (:func:`local_networks`).
    """
    table = table_of(device)
    families = {network.version for network in carried}
    everything = any(network.prefixlen == 0 for network in traffic.networks)
    routes = [Route(str(network), table, device) for network in carried]
    handled = set(families)
    if 6 in families:
        ipv6 = "tunnel"
    elif traffic.ipv6 == "outside":
        ipv6 = "outside"
    elif everything or traffic.ipv6 == "block":
        ipv6 = "blocked"
        handled.add(6)
    else:
        ipv6 = "untouched"
    # What the profile asks for and the gateway does not grant, or the device does not carry any more, is rejected.
    asked = [network for network in traffic.networks if network.version == 4 or ipv6 != "outside"]
    handled |= {network.version for network in asked}
    rules: list[Rule] = []
    for version in sorted(handled):
        closed = {str(network) for network in (*asked, *carried) if network.version == version}
        if version == 6 and ipv6 == "blocked":
            closed.add(EVERYWHERE[6])
        routes += [Route(network, table, kind="unreachable", metric=LAST_METRIC) for network in sorted(closed)]
        if gateway.version == version:
            rules.append(Rule(version, PRIORITY_GATEWAY, RT_TABLE_MAIN, f"{gateway}/{gateway.max_prefixlen}"))
        inside = [one for one in name_servers if one != gateway and any(one in network for network in carried)]
        rules += [
            Rule(version, PRIORITY_NAMES, table, f"{one}/{one.max_prefixlen}")
            for one in inside
            if one.version == version
        ]
        left_out = [network for network in traffic.left_out if network.version == version]
        rules += [Rule(version, PRIORITY_LOCAL, RT_TABLE_MAIN, str(network)) for network in left_out]
        if traffic.local_network == "outside":
            beside = [str(network) for network in local if network.version == version]
            rules += [Rule(version, PRIORITY_LOCAL, RT_TABLE_MAIN, network) for network in beside]
        rules.append(Rule(version, PRIORITY_TUNNEL, table))
    return RoutingPlan(tuple(dict.fromkeys(routes)), tuple(rules), ipv6)
