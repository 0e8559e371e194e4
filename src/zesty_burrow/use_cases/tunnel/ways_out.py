"""Which packets leave this machine, and by which device, beside what its tunnels are meant to carry."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from ipaddress import ip_address, ip_network

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.net import Network
from zesty_burrow.core.ways_out.beside import (
    Allowed,
    Meant,
    answers,
    by_ports,
    dhcp,
    neighbours,
    of_user,
    to,
)
from zesty_burrow.core.ways_out.seen import WaysSeen
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.host.guard.tables.allow_list import DNS_PORTS, WEB_PORTS
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.ways_out.look import look_at_ways

ON_THE_LINK = {4: ("224.0.0.0/4", "255.255.255.255/32"), 6: ("ff00::/8", "fe80::/10")}
"""Groups, everybody and neighbours (RFC 1112 §4, RFC 919 §7, RFC 4291 §2.5.6 and §2.7): routers pass on no group that
nobody behind them has asked for.
"""


def look(statuses: Sequence[TunnelStatus], guard: GuardState | None, share: Share) -> WaysSeen:
    """``share``: what all tunnels let through beside them. What cannot be looked at is said to be undecided."""
    try:
        with Netlink() as netlink:
            devices = {link.name: link.number for link in netlink.links()}
            on_link = [one.network for one in netlink.on_link_networks()]
        tunnels = [meant_of(status, devices) for status in statuses]
        portal = guard.portal if guard is not None else {}
        allowed = {version: list(_allowed(share, portal, version, devices, on_link)) for version in (4, 6)}
        return look_at_ways(tunnels, allowed, [status.device for status in statuses])
    except RightsMissing:
        return WaysSeen(undecided=("the packet filter: only root may read it",))
    except MachineError as problem:
        return WaysSeen(undecided=(f"{problem.what}: {problem.why}",))


def meant_of(status: TunnelStatus, devices: dict[str, int]) -> Meant:
    """A tunnel as it is meant, by its own word."""
    networks = [ip_network(one) for one in status.networks]
    if status.ipv6 == "blocked":
        networks.append(EVERYTHING[1])
    elif status.ipv6 == "outside":
        networks = [network for network in networks if network.version == 4]
    gateways = (ip_address(status.gateway_address),) if status.gateway_address else ()
    return Meant(status.profile, devices.get(status.device, 0), tuple(dict.fromkeys(networks)), gateways)


def _allowed(
    share: Share, portal: Iterable[int], version: int, devices: dict[str, int], on_link: Iterable[Network]
) -> Iterable[Allowed]:
    for opening in share.openings:
        if opening.address.version == version:
            match = ((to(opening.address), *by_ports(opening.protocol, opening.port)),)
            yield Allowed("tunnel", f"the tunnel's own packets to {opening.address}", match)
    for device, network in share.local:
        if network.version == version and device in devices:
            yield Allowed("local", f"the local network {network}", ((to(network),),), (devices[device],))
    for network in share.left_out:
        if network.version == version:
            yield Allowed("left out", f"{network}, which the profile leaves out", ((to(network),),))
    for address, port in share.peers:
        if address.version == version:
            yield Allowed("session", f"the session with {address}", (answers(address, port),))
    for user in portal:
        yield Allowed("portal", f"web pages of user {user}", of_user(user, (*WEB_PORTS, *DNS_PORTS[:2])))
    link = [ip_network(one) for one in ON_THE_LINK[version]]
    yield Allowed("link", "groups and neighbours of the link", tuple((to(network),) for network in link))
    yield dhcp(version)
    if version == 6:
        yield neighbours([network for network in on_link if network.version == 6])
