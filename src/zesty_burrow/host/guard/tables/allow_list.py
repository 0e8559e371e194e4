"""What may leave beside the tunnels, as rows: the same for packets of the IP stack and for frames at a device.

A row's match is for packets of its version of IP alone; who makes a chain of it sees to the version and the device.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network, ip_address, ip_network
from typing import NamedTuple

from zesty_burrow.core.net import TCP, UDP, LocalNetwork, Network
from zesty_burrow.host.guard.plan import EVERYTHING, Opening, Share
from zesty_burrow.host.packet_filter import expressions as x

TUNNEL, INSIDE, NEIGHBOURS, ADDRESSES, LOCAL, LEFT_OUT, PORTAL, SESSION = (
    "tunnel",
    "inside",
    "neighbours",
    "addresses",
    "local",
    "left_out",
    "portal",
    "session",
)
REJECTED, DROPPED = "rejected", "dropped"
COUNTERS = (TUNNEL, INSIDE, NEIGHBOURS, ADDRESSES, LOCAL, LEFT_OUT, PORTAL, SESSION, REJECTED, DROPPED)
PORTAL_USERS = "portal_users"
DNS_PORTS = ((UDP, 53), (TCP, 53), (UDP, 853), (TCP, 853))
"""RFC 1035, RFC 7858, RFC 9250."""
WEB_PORTS = ((TCP, 80), (TCP, 443), (UDP, 443))
ROUTER_SOLICITATION, NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT = 133, 135, 136
"""ICMPv6 (RFC 4861 §4)."""
LISTENER_REPORTS = (131, 132, 143)
"""ICMPv6: without them some switches do not pass neighbour solicitations on (RFC 4861 §7.2.1, RFC 2710, RFC 9777)."""
LINK_LOCAL, LINK_MULTICAST = ip_network("fe80::/10"), ip_network("ff02::/16")
ALL_ROUTERS, ALL_NODES = ip_network("ff02::2/128"), ip_network("ff02::1/128")
SOLICITED_NODES = ip_network("ff02::1:ff00:0/104")
"""RFC 4291 §2.7.1."""
LONGEST_UNICAST = 40
"""Octets of a neighbour solicitation or advertisement with an address option and a nonce (RFC 4861 §4.3, RFC 3971
§5.3.2), where it goes to one on-link address: it has no room for anything else.
"""
BROADCAST, DHCP_SERVERS = ip_address("255.255.255.255"), ip_address("ff02::1:2")
UPPER_PROTOCOLS = (TCP, UDP, 44, 47, 50, 58, 132)
"""What may follow the fixed header of an IPv6 packet to a local network: no routing header (RFC 8200 §4.4), which would
have a router there pass it on; TCP, UDP, a fragment, GRE, ESP, ICMPv6, SCTP.
"""
ACCEPT, RETURN = x.verdict(x.ACCEPT), x.verdict(x.RETURN)


class AllowedPackets(NamedTuple):
    """``version``: 4, 6, or 0 for both. ``counter``: empty for a row that ends the look at what may leave. ``checked``:
    its ports have to be in it, and no route of the sender's own. ``device``: empty for all.
    """

    version: int
    match: bytes
    counter: str = ""
    device: str = ""
    checked: bool = False


def holds_everything(share: Share) -> bool:
    """Whether all traffic of a family is held."""
    return any(network in EVERYTHING for network in share.held)


def tunnel_rows(openings: Iterable[Opening], *, fragments: bool) -> Iterator[AllowedPackets]:
    """For the tunnels' own sockets. ``fragments``: they are looked at one by one, as at a device."""
    for address, protocol, port in openings:
        to = x.destination(address)
        yield AllowedPackets(address.version, to + x.to_port(protocol, port), TUNNEL)
        if fragments and port:
            yield AllowedPackets(
                address.version, to + x.of_protocol(protocol) + x.later_fragment(address.version), TUNNEL
            )


def rows_beside(share: Share, on_link: Iterable[LocalNetwork]) -> Iterator[AllowedPackets]:
    """By other devices than those of the tunnels: where everything is held, no question for a name."""
    for address, port in share.peers:
        yield AllowedPackets(address.version, x.destination(address) + x.from_port(TCP, port), SESSION)
    user = x.user_in(PORTAL_USERS)
    for protocol, port in (*WEB_PORTS, *DNS_PORTS[:2]):
        # A user who has to sign in to the local network first.
        yield AllowedPackets(0, user + x.to_port(protocol, port), PORTAL)
    if holds_everything(share):
        for protocol, port in DNS_PORTS:
            yield AllowedPackets(0, x.to_port(protocol, port))
    yield from _neighbour_discovery(on_link)
    yield from _address_assignment(share)
    for device, network in share.local:
        for everybody in _broadcasts(network):
            yield AllowedPackets(4, x.destination(everybody), device=device)
        yield AllowedPackets(network.version, x.destination(network), LOCAL, device, checked=True)
    for network in share.left_out:
        yield AllowedPackets(network.version, x.destination(network), LEFT_OUT, checked=True)


def _broadcasts(network: Network) -> list[Network]:
    """Everybody in a local network at once, also by the old form (RFC 919 §7)."""
    if not isinstance(network, IPv4Network) or network.prefixlen > 30:
        return []
    return [ip_network(network.broadcast_address), ip_network(network.network_address)]


def _neighbour_discovery(on_link: Iterable[LocalNetwork]) -> Iterator[AllowedPackets]:
    """To groups and addresses of the link alone (RFC 4861 §4): routers pass nothing of it on, but a sender may lie."""
    whole = x.hop_limit(255)
    targets = {
        ROUTER_SOLICITATION: (ALL_ROUTERS, LINK_LOCAL),
        NEIGHBOUR_SOLICITATION: (SOLICITED_NODES, LINK_LOCAL),
        NEIGHBOUR_ADVERTISEMENT: (ALL_NODES, LINK_LOCAL),
    }
    for kind, networks in targets.items():
        for network in networks:
            yield AllowedPackets(6, x.destination(network) + x.icmpv6(kind) + whole, NEIGHBOURS)
    short = x.octets_are(x.NETWORK_HEADER, 4, LONGEST_UNICAST.to_bytes(2), how=x.AT_MOST)
    for device, network in on_link:
        if network.version == 6 and not network.is_link_local:
            for kind in (NEIGHBOUR_SOLICITATION, NEIGHBOUR_ADVERTISEMENT):
                match = x.destination(network) + short + x.icmpv6(kind) + whole
                yield AllowedPackets(6, match, NEIGHBOURS, device)
    for kind in LISTENER_REPORTS:
        yield AllowedPackets(6, x.destination(LINK_MULTICAST) + x.icmpv6(kind) + x.hop_limit(1), NEIGHBOURS)


def _address_assignment(share: Share) -> Iterator[AllowedPackets]:
    """DHCP (RFC 2131 §4.1, RFC 9915): by broadcast and multicast, and to servers in the local networks."""
    dhcp, dhcpv6 = x.between_ports(UDP, 68, 67), x.between_ports(UDP, 546, 547)
    yield AllowedPackets(4, x.destination(BROADCAST) + dhcp, ADDRESSES)
    for device, network in share.local:
        if network.version == 4:
            yield AllowedPackets(4, x.destination(network) + dhcp, ADDRESSES, device)
    for target in (DHCP_SERVERS, LINK_LOCAL):
        yield AllowedPackets(6, x.destination(target) + dhcpv6, ADDRESSES)


def checked_rules(version: int, counter: str) -> Iterator[bytes]:
    """The rules of a chain that lets through what it is given, if its ports can be read and it names no route.

    Ports that stand in a later piece could be those of a question for a name. ``counter``: empty for none.
    """
    let = (x.count(counter) if counter else b"") + ACCEPT
    if version == 4:
        # Options of IPv4 can name a route (RFC 791 §3.1): a header of 20 octets has none.
        yield x.octets_are(x.NETWORK_HEADER, 0, b"\x05", b"\x0f", x.NOT_EQUAL) + RETURN
    else:
        others = b"".join(x.octets_are(x.NETWORK_HEADER, 6, bytes([one]), how=x.NOT_EQUAL) for one in UPPER_PROTOCOLS)
        yield others + RETURN
    for protocol in (UDP, TCP):
        yield x.has_ports(protocol) + let
    yield x.later_fragment(version) + let
    yield x.not_of_protocol(UDP) + x.not_of_protocol(TCP) + let
