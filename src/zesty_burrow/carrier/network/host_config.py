"""This machine's side of a tunnel: the device's addresses, routes and rules, and the name servers."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from ipaddress import ip_address
from typing import TYPE_CHECKING

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.carrier.control.status import IPV6_STATES
from zesty_burrow.carrier.data_path.data_path import largest_piece
from zesty_burrow.carrier.network.addresses import look_up, network_key, outer_address
from zesty_burrow.carrier.network.outer_names import look_up_outside, outer_servers
from zesty_burrow.carrier.network.repairs import (
    LOCAL_MANY,
    LOCAL_OVERLAPS,
    LOCAL_PUBLIC,
    REPAIRED,
    RESOLVER,
    judge_routing,
    repair_routing,
)
from zesty_burrow.carrier.network.tunnel_guard import TunnelGuard
from zesty_burrow.carrier.supervision.options import TunnelOptions
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.net import Address, LocalNetwork, Network, covers, is_host
from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import GatewayUnreachable, MachineError, StateError
from zesty_burrow.host.forwarding import SETTINGS, is_forwarding
from zesty_burrow.host.guard.local_trust import LocalTrust, judge_local, places
from zesty_burrow.host.journal.journal import Journal
from zesty_burrow.host.names.names_record import Layer
from zesty_burrow.host.names.resolved import Resolved, find_resolved
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.plan import RoutingPlan, keeps_from_tunnel, leads_past, plan_routes
from zesty_burrow.protocols.session import NetworkSettings, Step, Up
from zesty_burrow.records import dataclass, replace

if TYPE_CHECKING:
    from zesty_burrow.carrier.network.encrypted_names import TlsNameServer
    from zesty_burrow.carrier.network.name_forwarder import NameForwarder

log = logging.getLogger(__name__)
MAX_REWRITTEN = 3
QUEUE = 4000
"""Packets that the device keeps for us while we are busy."""


def bring_up(netlink: Netlink, device: str, mtu: int) -> None:
    """A tunnel device as the data path wants it."""
    # Who is at the tunnel's other end has no say about this machine's routers.
    netlink.without_own_addresses(device)
    netlink.set_link(device, mtu=mtu, state="up", txqlen=QUEUE)
    # Older kernels do not know it; their pieces are then sent in two goes.
    with suppress(MachineError):
        netlink.set_link(device, gso_max_size=largest_piece(mtu))


@dataclass(frozen=True, slots=True)
class Applied:
    """What is in force: the plan and the name servers that are used; what the gateway did not grant; servers that it
    names and that cannot be meant; who is asked by DNS over TLS; kernel settings without which networks behind this
    machine are not reached.
    """

    plan: RoutingPlan
    servers: tuple[str, ...]
    not_granted: tuple[str, ...] = ()
    refused_servers: tuple[str, ...] = ()
    encrypted: TlsNameServer | None = None
    not_forwarding: tuple[str, ...] = ()


def sort_servers(granted: Up, gateway: str) -> tuple[tuple[Address, ...], tuple[Address, ...]]:
    """The name servers that the gateway names and carries packets to; and those that no name server can have.

    Questions to the gateway's own outer address would leave outside the tunnel; those to this side's address, to no
    host or to a link lead nowhere. One that is only not carried is left out, and not reported.
    """
    own = {entry.ip for entry in granted.network.addresses}
    versions = {address.version for address in own}
    refused = [
        name_server
        for name_server in granted.network.name_servers
        if not is_host(name_server) or name_server.is_link_local or name_server in own or str(name_server) == gateway
    ]
    usable = [
        name_server
        for name_server in granted.network.name_servers
        if name_server not in refused
        and name_server.version in versions
        and any(name_server.packed in entry for entry in granted.remote)
    ]
    return tuple(usable), tuple(refused)


class HostConfig:
    """Configures as the gateway says; each change is noted in the journal before it is made."""

    def __init__(
        self, profile: Profile, device: str, journal: Journal, guard: TunnelGuard, options: TunnelOptions
    ) -> None:
        self._profile, self._device, self._journal, self._guard = profile, device, journal, guard
        self._options, self._names = options, options.names
        self._forwarder: NameForwarder | None = None
        self.network: NetworkSettings | None = None
        self._plan = RoutingPlan((), (), "")
        self._carried: list[Network] = []
        self._servers: tuple[Address, ...] = ()
        self._on_link: tuple[LocalNetwork, ...] = ()
        self._outer_servers: tuple[Address, ...] = ()
        self._mtu = 0
        self._gateways: tuple[Address, ...] = ()
        self._layer: Layer | None = None
        self._resolved: Resolved | None = None
        self._rewritten = 0
        self._prune = False

    def begin(self) -> None:
        """Before the first packet: close the guard. The local networks and name servers are those of this moment."""
        with Netlink() as netlink:
            self._on_link = tuple(netlink.on_link_networks())
        self._outer_servers = self._find_outer_servers()
        self._resolved = find_resolved(self._names.before()[0])
        self._guard.close(self._judge_local(self._on_link).kept)

    def _judge_local(self, networks: Sequence[LocalNetwork]) -> LocalTrust:
        """Which of the networks that this machine is in are reached beside the tunnel."""
        own = [one for one in networks if one.device != self._device]
        named = (*self._profile.traffic.local_networks, *self._options.local_networks)
        return judge_local(own, named, self._inside())

    def _inside(self) -> tuple[Network, ...]:
        """What belongs in the tunnel: networks by their names, name servers, this side's own addresses; the gateway."""
        traffic = self._profile.traffic
        addresses = [*traffic.name_servers, *self._servers, *self.own_addresses, *self._gateways]
        return places((*traffic.networks, *self._carried), addresses)

    def _find_outer_servers(self) -> tuple[Address, ...]:
        """Not the tunnel's own, where systemd-resolved lists them among the machine's."""
        own = self._servers if self._resolved is not None else ()
        return tuple(outer_server for outer_server in outer_servers(self._names) if outer_server not in own)

    def look_up(self, names: Sequence[str]) -> list[str]:
        """The addresses of names outside the tunnel. Raises :class:`GatewayUnreachable`."""
        if not self._guard.is_closed:
            return look_up(names)
        # The network that this machine is in now may have others.
        self._outer_servers = self._find_outer_servers()
        self._reach(self._outer_servers)
        self._guard.open_to_servers(self._outer_servers)
        return look_up_outside(names, self._outer_servers)

    async def look_up_again(self, names: Sequence[str], known: list[str], last: str) -> list[str]:
        """The same for a tunnel that comes back: the address that has proven itself first, then what is found or known.

        Without a guard the questions would go into the tunnel that is lost.
        """
        if self._guard.is_closed:
            with suppress(GatewayUnreachable):
                known = await asyncio.to_thread(self.look_up, names)
        return list(dict.fromkeys([last, *known]))

    @property
    def own_addresses(self) -> tuple[Address, ...]:
        """Of this side, inside the tunnel."""
        return tuple(entry.ip for entry in self.network.addresses) if self.network else ()

    def network_key(self) -> str:
        """A name for the network that this machine is in at present."""
        with Netlink() as netlink:
            present = netlink.on_link_networks()
        return network_key([one for one in present if one.device != self._device])

    def become(self, profile: Profile) -> None:
        """The tunnel is about to be another profile's; in force with the next ``configure``."""
        self._profile, self._prune = profile, True
        self._guard.become(profile)

    def configure(self, granted: Up, gateway: str, mtu: int, step: Callable[[Step, str], None]) -> Applied:
        """Put what the gateway has granted in force; what of it is in force already stays untouched."""
        with Netlink() as netlink:
            self._use_addresses(netlink, granted, mtu)
            step(Step.ADDRESS, ", ".join(str(entry.ip) for entry in granted.network.addresses))
            versions = {entry.version for entry in granted.network.addresses}
            self._carried = [
                network for entry in granted.remote if entry.version in versions for network in entry.networks()
            ]
            usable, refused = sort_servers(granted, gateway)
            self._servers = self._profile.traffic.name_servers or usable
            self.network, self._gateways = granted.network, (ip_address(gateway),)
            plan = self._plan_for([ip_address(gateway)])
            self._apply(netlink, plan)
        self._guard.carry(self._device, self._servers, gateway, self._inside())
        step(Step.ROUTES, f"{', '.join(map(str, self._carried))}; IPv6 {IPV6_STATES[plan.ipv6]}")
        self._use_servers(granted)
        shown = tuple(map(str, self._servers))
        step(Step.NAME_SERVERS, ", ".join(shown) or "unchanged")
        ranges = [entry for entry in granted.remote if entry.version in versions]
        not_granted = tuple(str(one) for one in self._asked(plan) if not covers(ranges, one))
        encrypted = self._forwarder.encrypted if self._forwarder is not None else None
        told = sorted({network.version for network in self._profile.traffic.behind})
        off = tuple(SETTINGS[version] for version in told if not is_forwarding(version))
        return Applied(plan, shown, not_granted, tuple(map(str, refused)), encrypted, off)

    def lead_to(self, *gateways: tuple[str, Profile]) -> None:
        """Before a gateway is asked: it has to be reached outside the tunnel, and none but these any more."""
        self._reach([ip_address(outer_address(profile, gateway)) for gateway, profile in gateways])
        self._guard.open_to(gateways)

    def lead_nowhere(self) -> None:
        """No gateway is asked at present."""
        self._guard.open_to_nobody()

    def _reach(self, addresses: Sequence[Address]) -> None:
        if self.network is not None or self._options.beside:
            # What is on the link is reached by it anyway.
            wanted = [address for address in addresses if not address.is_link_local]
            with Netlink() as netlink:
                self._apply(netlink, self._plan_for(wanted))

    def look_and_repair(self) -> list[Finding]:
        """As :meth:`repair`; what cannot be set again is noted, and tried again with the next change."""
        try:
            return self.repair()
        except (MachineError, StateError) as problem:
            note(log, logging.ERROR, "not repaired", what=problem.what, why=problem.why)
            return []

    def repair(self) -> list[Finding]:
        """Set again what other programs have removed of the tunnel's; say what they do beside it.

        Raises :class:`MachineError` where something cannot be set again.
        """
        repaired = ["the guard"] if self._guard.put_again() else []
        if self.network is None:
            return [finding(REPAIRED, self._device, ", ".join(repaired))] if repaired else []
        with Netlink() as netlink:
            if not netlink.is_up(self._device):
                bring_up(netlink, self._device, self._mtu)
                repaired.append(f"device {self._device}")
            present = netlink.addresses(self._device)
            for entry in self.network.addresses:
                address = f"{entry.ip}/{entry.ip.max_prefixlen}"
                if address not in present:
                    netlink.add_address(self._device, address)
                    repaired.append(f"address {entry.ip}")
            repaired += repair_routing(netlink, self._plan)
            found = judge_routing(netlink, self._device, repaired)
            found += self._local_findings(netlink)
        return [*found, *self._repair_resolver()]

    def _local_findings(self, netlink: Netlink) -> list[Finding]:
        """Networks that this machine is in and that are not reached beside the tunnel, and why."""
        traffic = self._profile.traffic
        if not traffic.everything or traffic.local_network != "outside":
            return []
        trust = self._judge_local(netlink.on_link_networks())
        rows = ((LOCAL_PUBLIC, trust.public), (LOCAL_OVERLAPS, trust.overlapping), (LOCAL_MANY, trust.too_many))
        return [
            finding(slug, self._device, ", ".join(f"{network.network} by {network.device}" for network in networks))
            for slug, networks in rows
            if networks
        ]

    def _repair_resolver(self) -> list[Finding]:
        """Another program may win in the end; it is not fought for ever."""
        if self._layer is None:
            return []
        if self._names.drop_dead(str(self._journal.path)):
            file = str(self._names.target)
            return [finding(RESOLVER, file, "a tunnel's process has died; its name servers were taken out")]
        if self._names.is_in_force():
            return []
        self._rewritten += 1
        file = str(self._names.target)
        if self._rewritten > MAX_REWRITTEN:
            return [finding(RESOLVER, file, "it was written again and again, and is left as it is now")]
        self._names.write_again()
        return [finding(RESOLVER, file, "the tunnel's name servers were set again")]

    def set_mtu(self, mtu: int) -> None:
        """Another MTU for the device."""
        self._mtu = mtu
        with Netlink() as netlink:
            netlink.set_link(self._device, mtu=mtu)

    def _use_addresses(self, netlink: Netlink, granted: Up, mtu: int) -> None:
        before = self.network.addresses if self.network else ()
        self._mtu = mtu
        if not before:
            bring_up(netlink, self._device, mtu)
        for entry in granted.network.addresses:
            if entry not in before:
                netlink.add_address(self._device, f"{entry.ip}/{entry.ip.max_prefixlen}")
        for entry in before:
            if entry not in granted.network.addresses:
                netlink.remove_address(self._device, f"{entry.ip}/{entry.ip.max_prefixlen}")

    def _use_servers(self, granted: Up) -> None:
        """A tunnel that takes only some networks, and says whose names are there, answers for those alone."""
        if not self._servers:
            return
        suffixes = self._profile.traffic.suffixes or granted.network.suffixes
        layer = Layer(self._servers, suffixes)
        if suffixes and not self._profile.traffic.everything:
            # Slow to load, and only needed here.
            from zesty_burrow.core.dns.split_names import reverse_zones

            layer = replace(layer, zones=reverse_zones(self._carried) or suffixes)
        if self._resolved is not None:
            self._resolved.use(self._device, layer)
            if self._resolved.alone:
                return
        if layer.zones:
            from zesty_burrow.carrier.network.name_forwarder import NameForwarder, forwarder_address

            if self._forwarder is None:
                self._forwarder = NameForwarder(forwarder_address(self._device), self._names)
            layer = replace(layer, forwarder=self._forwarder.address)
            self._use_encrypted(self._forwarder, granted)
        if layer != self._layer:
            self._journal.use_names(self._names, layer)
            self._layer = layer
        if self._forwarder is not None and not layer.forwarder:
            self._forwarder.close()
            self._forwarder = None

    def _use_encrypted(self, forwarder: NameForwarder, granted: Up) -> None:
        """Where the profile leaves the choice of servers to the gateway, what that has announced is asked first."""
        forwarder.servers, before = self._servers, forwarder.encrypted
        from zesty_burrow.carrier.network.encrypted_names import TlsNameServer, by_tls

        announced = () if self._profile.traffic.name_servers else granted.network.encrypted_resolvers
        found = by_tls(announced, self._carried)
        if before is not None and (found is None or before.resolver != found[0]):
            before.close()
            forwarder.encrypted = before = None
        if found is not None and before is None:
            forwarder.encrypted = TlsNameServer(*found, self._profile.authorities)

    def close(self) -> None:
        """No more questions are passed on."""
        if self._resolved is not None:
            self._resolved.put_back()
        if self._forwarder is not None:
            self._forwarder.close()
            self._forwarder = None

    def _asked(self, plan: RoutingPlan) -> list[Network]:
        """The profile's networks that should be in the tunnel. That no IPv6 is, the plan says in a word of its own."""
        versions = (4, 6) if plan.ipv6 in ("tunnel", "untouched") else (4,)
        return [network for network in self._profile.traffic.networks if network.version in versions]

    def _plan_for(self, outside: Sequence[Address]) -> RoutingPlan:
        """What the tunnel needs while these addresses are reached outside it, besides those of sessions not to be
        cut.
        """
        local = self._judge_local(self._on_link).kept
        around = (*outside, *(peer.address for peer in self._options.peers))
        return plan_routes(self._device, around, self._carried, self._servers, self._profile.traffic, local)

    def _apply(self, netlink: Netlink, plan: RoutingPlan) -> None:
        """What of a plan is not in force yet. Only what is about ways past the tunnel is taken back before the end, as
        anything else could open a gap; or all that is not another profile's too, once that is in force.
        """
        for route in plan.routes:
            if route not in self._plan.routes:
                self._journal.add_route(netlink, route)
        for rule in plan.rules:
            if rule not in self._plan.rules:
                self._journal.add_rule(netlink, rule)
        prune, self._prune = self._prune, False
        past = [rule for rule in self._plan.rules if (prune or leads_past(rule)) and rule not in plan.rules]
        for rule in past:
            netlink.delete_rule(rule)
        gone = [
            route for route in self._plan.routes if (prune or keeps_from_tunnel(route)) and route not in plan.routes
        ]
        for route in gone:
            netlink.delete_route(route)
        routes = dict.fromkeys((*(one for one in self._plan.routes if one not in gone), *plan.routes))
        rules = dict.fromkeys((*(one for one in self._plan.rules if one not in past), *plan.rules))
        self._plan = RoutingPlan(tuple(routes), tuple(rules), plan.ipv6)
