"""What may leave beside the tunnels: from what they let through, and from the networks that this machine is in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from ipaddress import ip_network

from zesty_burrow.core.net import LocalNetwork
from zesty_burrow.core.ways_out.beside import Allowed, answers, by_ports, dhcp, neighbours, of_user, to
from zesty_burrow.host.guard.plan import Share
from zesty_burrow.host.guard.tables.allow_list import DNS_PORTS, WEB_PORTS
from zesty_burrow.host.guard.tables.surroundings import outer_devices
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.packet_watch.watch import WatchedDevice
from zesty_burrow.records import dataclass

ON_THE_LINK = {4: ("224.0.0.0/4", "255.255.255.255/32"), 6: ("ff00::/8", "fe80::/10")}
"""Groups, everybody and neighbours (RFC 1112 §4, RFC 919 §7, RFC 4291 §2.5.6 and §2.7): routers pass on no group that
nobody behind them has asked for.
"""


@dataclass(frozen=True, slots=True)
class BesideTunnels:
    """``allowed``: by version of IP; ``outer``: devices that lead outside and are up; ``devices``: all, by name."""

    allowed: dict[int, tuple[Allowed, ...]]
    outer: tuple[WatchedDevice, ...]
    devices: dict[str, int]


def look_beside(share: Share, portal: Iterable[int], names: Sequence[str]) -> BesideTunnels:
    """``share``: what all tunnels let through beside them; ``portal``: users whose sign-in pages may leave; ``names``:
    devices of the tunnels. Raises :class:`MachineError`.
    """
    with Netlink() as netlink:
        links = netlink.links()
        on_link = netlink.on_link_networks()
    devices = {link.name: link.number for link in links}
    outer = [one for one in outer_devices(link for link in links if link.is_up) if one.name not in names]
    by_network: dict[str, list[int]] = {}
    for one in outer:
        for name in one.networks:
            by_network.setdefault(name, []).append(devices[one.name])
    users = list(portal)
    return BesideTunnels(
        {version: tuple(_allowed(share, users, version, by_network, on_link)) for version in (4, 6)},
        tuple(WatchedDevice(devices[one.name], one.name, one.is_ethernet) for one in outer),
        devices,
    )


def _allowed(
    share: Share, portal: Iterable[int], version: int, devices: Mapping[str, list[int]], on_link: Sequence[LocalNetwork]
) -> Iterable[Allowed]:
    for opening in share.openings:
        if opening.address.version == version:
            match = ((to(opening.address), *by_ports(opening.protocol, opening.port)),)
            yield Allowed("tunnel", f"the tunnel's own packets to {opening.address}", match)
    yield from _by_profile(share, version, devices)
    for address, port in share.peers:
        if address.version == version:
            yield Allowed("session", f"the session with {address}", (answers(address, port),))
    for user in portal:
        yield Allowed("portal", f"web pages of user {user}", of_user(user, (*WEB_PORTS, *DNS_PORTS[:2])))
    yield from _on_the_link(version, devices, on_link)


def _by_profile(share: Share, version: int, devices: Mapping[str, list[int]]) -> Iterable[Allowed]:
    """What the profiles leave beside their tunnels."""
    for device, network in share.local:
        if network.version == version and device in devices:
            yield Allowed("local", f"the local network {network}", ((to(network),),), tuple(devices[device]))
    for network in share.left_out:
        if network.version == version:
            yield Allowed("left out", f"{network}, which the profile leaves out", ((to(network),),))


def _on_the_link(version: int, devices: Mapping[str, list[int]], on_link: Sequence[LocalNetwork]) -> Iterable[Allowed]:
    """What no router passes on."""
    link = [ip_network(one) for one in ON_THE_LINK[version]]
    yield Allowed("link", "groups and neighbours of the link", tuple((to(network),) for network in link))
    yield dhcp(version)
    if version == 6:
        yield neighbours([one.network for one in on_link if one.network.version == 6])
    for device, network in on_link:
        if version == network.version == 4 and device in devices:
            everybody = tuple((to(one),) for one in (network.broadcast_address, network.network_address))
            yield Allowed("broadcast", f"everybody in {network}", everybody, tuple(devices[device]))
