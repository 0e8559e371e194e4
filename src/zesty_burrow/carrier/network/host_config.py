"""This machine's side of a tunnel: the device's addresses, routes and rules, and the name servers."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address

from zesty_burrow.carrier.control.status import IPV6_STATES
from zesty_burrow.carrier.data_path.data_path import largest_piece
from zesty_burrow.core.net import Address, Network, covers, is_host
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import MachineError
from zesty_burrow.host.journal.journal import Journal
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.plan import RoutingPlan, local_networks, plan_routes
from zesty_burrow.host.resolver import use_name_servers
from zesty_burrow.protocols.session import NetworkSettings, Step, Up

QUEUE = 4000
"""Packets that the device keeps for us while we are busy."""


def bring_up(netlink: Netlink, device: str, mtu: int) -> None:
    """A tunnel device as the data path wants it."""
    netlink.set_link(device, mtu=mtu, state="up", txqlen=QUEUE)
    # Older kernels do not know it; their pieces are then sent in two goes.
    with suppress(MachineError):
        netlink.set_link(device, gso_max_size=largest_piece(mtu))


@dataclass(frozen=True, slots=True)
class Applied:
    """What is in force: the plan and the name servers that are used; what the gateway did not grant; servers that it
    names and that cannot be meant.
    """

    plan: RoutingPlan
    servers: tuple[str, ...]
    not_granted: tuple[str, ...] = ()
    refused_servers: tuple[str, ...] = ()


def sort_servers(granted: Up, gateway: str) -> tuple[tuple[Address, ...], tuple[Address, ...]]:
    """The name servers that the gateway names and carries packets to; and those that no name server can have.

    Questions to the gateway's own outer address would leave outside the tunnel; those to this side's address, to no
    host or to a link lead nowhere. One that is only not carried is left out, and not reported.
    """
    own = {entry.ip for entry in granted.network.addresses}
    versions = {address.version for address in own}
    refused = [
        one
        for one in granted.network.name_servers
        if not is_host(one) or one.is_link_local or one in own or str(one) == gateway
    ]
    usable = [
        one
        for one in granted.network.name_servers
        if one not in refused and one.version in versions and any(one.packed in entry for entry in granted.remote)
    ]
    return tuple(usable), tuple(refused)


class HostConfig:
    """Configures as the gateway says; each change is noted in the journal before it is made."""

    def __init__(self, profile: Profile, device: str, journal: Journal) -> None:
        self._profile, self._device, self._journal = profile, device, journal
        self.network: NetworkSettings | None = None
        self._plan = RoutingPlan((), (), "")
        self._carried: list[Network] = []
        self._servers: tuple[Address, ...] = ()
        self._local: tuple[Network, ...] | None = None

    def configure(self, granted: Up, gateway: str, mtu: int, step: Callable[[Step, str], None]) -> Applied:
        """Put what the gateway has granted in force; what of it is in force already stays untouched."""
        with Netlink() as netlink:
            if self._local is None:
                self._local = local_networks(netlink.on_link_networks())
            self._use_addresses(netlink, granted, mtu)
            step(Step.ADDRESS, ", ".join(str(entry.ip) for entry in granted.network.addresses))
            versions = {entry.version for entry in granted.network.addresses}
            self._carried = [
                network for entry in granted.remote if entry.version in versions for network in entry.networks()
            ]
            usable, refused = sort_servers(granted, gateway)
            self._servers = self._profile.traffic.name_servers or usable
            plan = self._plan_for(gateway)
            self._apply(netlink, plan)
        step(Step.ROUTES, f"{', '.join(map(str, self._carried))}; IPv6 {IPV6_STATES[plan.ipv6]}")
        self._use_servers(granted)
        shown = tuple(map(str, self._servers))
        step(Step.NAME_SERVERS, ", ".join(shown) or "unchanged")
        self.network = granted.network
        ranges = [entry for entry in granted.remote if entry.version in versions]
        not_granted = tuple(str(one) for one in self._asked(plan) if not covers(ranges, one))
        return Applied(plan, shown, not_granted, tuple(map(str, refused)))

    def lead_to(self, gateway: str) -> None:
        """Before another gateway is asked: it has to be reached outside the tunnel as well."""
        if self.network is not None:
            with Netlink() as netlink:
                self._apply(netlink, self._plan_for(gateway))

    def set_mtu(self, mtu: int) -> None:
        """Another MTU for the device."""
        with Netlink() as netlink:
            netlink.set_link(self._device, mtu=mtu)

    def _use_addresses(self, netlink: Netlink, granted: Up, mtu: int) -> None:
        before = self.network.addresses if self.network else ()
        if not before:
            bring_up(netlink, self._device, mtu)
        for entry in granted.network.addresses:
            if entry not in before:
                netlink.add_address(self._device, f"{entry.ip}/{entry.ip.max_prefixlen}")
        for entry in before:
            if entry not in granted.network.addresses:
                netlink.remove_address(self._device, f"{entry.ip}/{entry.ip.max_prefixlen}")

    def _use_servers(self, granted: Up) -> None:
        known, traffic = self.network, self._profile.traffic
        said = granted.network.name_servers, granted.network.suffixes
        if self._servers and (known is None or (known.name_servers, known.suffixes) != said):
            use_name_servers(self._journal, self._servers, traffic.suffixes or granted.network.suffixes)

    def _asked(self, plan: RoutingPlan) -> list[Network]:
        """The profile's networks that should be in the tunnel. That no IPv6 is, the plan says in a word of its own."""
        versions = (4, 6) if plan.ipv6 in ("tunnel", "untouched") else (4,)
        return [network for network in self._profile.traffic.networks if network.version in versions]

    def _plan_for(self, gateway: str) -> RoutingPlan:
        """What the tunnel needs while it leads to this gateway."""
        traffic = self._profile.traffic
        return plan_routes(self._device, ip_address(gateway), self._carried, self._servers, traffic, self._local or ())

    def _apply(self, netlink: Netlink, plan: RoutingPlan) -> None:
        """What of a plan is not in force yet. Nothing is taken back before the end: that could open a gap."""
        for route in plan.routes:
            if route not in self._plan.routes:
                self._journal.add_route(netlink, route)
        for rule in plan.rules:
            if rule not in self._plan.rules:
                self._journal.add_rule(netlink, rule)
        routes = tuple(dict.fromkeys((*self._plan.routes, *plan.routes)))
        self._plan = RoutingPlan(routes, tuple(dict.fromkeys((*self._plan.rules, *plan.rules))), plan.ipv6)
