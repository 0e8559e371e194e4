"""The guard as a table of the packet filter, made from what is to be let through.

Base chains look at what programs of this machine send and at what it passes on for others, and reject what is not let
through, with an answer that says so. One more, behind everything, where a packet's last device is known, drops the same
once more. Regular chains say what is let through. What is let through here may still be refused by other tables.
"""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import ip_address, ip_network

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.host.netlink_messages import APPEND, CREATE, attribute, nest, text
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.guard_plan import EVERYTHING, MARK, Opening, Share
from zesty_burrow.host.packet_filter.messages import (
    DELETE_ELEMENT,
    DELETE_RULE,
    DELETE_TABLE,
    NEW_CHAIN,
    NEW_ELEMENT,
    NEW_OBJECT,
    NEW_RULE,
    NEW_SET,
    NEW_TABLE,
    Body,
    number,
)

TABLE = "zesty_guard"
LET_THROUGH, LET_LEAVE, INSIDE_TUNNEL, NAMES = "let_through", "let_leave", "inside_tunnel", "names"
OUTER, OUTER_LEAVING = "outer", "outer_leaving"
FORWARD, LOCAL_OUT, POSTROUTING = 2, 3, 4
BASE_CHAINS = {"sent": (LOCAL_OUT, 0), "passed_on": (FORWARD, 0), "leaving": (POSTROUTING, 300)}
"""Hook and priority: those of a filter, and behind address translation (NF_IP_PRI_LAST is later still)."""
PORTAL_USERS = "portal_users"
TUNNEL, INSIDE, NEIGHBOURS, ADDRESSES, LOCAL, LEFT_OUT, PORTAL = (
    "tunnel",
    "inside",
    "neighbours",
    "addresses",
    "local",
    "left_out",
    "portal",
)
REJECTED, DROPPED = "rejected", "dropped"
COUNTERS = (TUNNEL, INSIDE, NEIGHBOURS, ADDRESSES, LOCAL, LEFT_OUT, PORTAL, REJECTED, DROPPED)
DNS_PORTS = ((UDP, 53), (TCP, 53), (UDP, 853), (TCP, 853))
"""RFC 1035, RFC 7858, RFC 9250."""
WEB_PORTS = ((TCP, 80), (TCP, 443), (UDP, 443))
NEIGHBOUR_DISCOVERY = (133, 135, 136)
"""ICMPv6: router solicitation, neighbour solicitation, neighbour advertisement (RFC 4861)."""
LISTENER_REPORTS = (131, 132, 143)
"""ICMPv6: without them some switches do not pass neighbour solicitations on (RFC 4861 §7.2.1, RFC 2710, RFC 9777)."""
LINK_LOCAL, LINK_MULTICAST = ip_network("fe80::/10"), ip_network("ff02::/16")
BROADCAST, DHCP_SERVERS = ip_address("255.255.255.255"), ip_address("ff02::1:2")
SET_TIMEOUT = 0x10
ACCEPT = x.verdict(x.ACCEPT)
POLICY_ACCEPT = 1


def removal() -> list[Body]:
    """No guard. It need not be there."""
    return [(NEW_TABLE, CREATE, text(1, TABLE)), (DELETE_TABLE, 0, text(1, TABLE))]


def more_openings(openings: Iterable[Opening]) -> list[Body]:
    """Let the tunnels' sockets reach more, beside what is in force."""
    rows = ((OUTER, _openings(openings, TUNNEL)), (OUTER_LEAVING, _openings(openings)))
    return [_rule(name, rule) for name, rules in rows for rule in rules]


def setting(share: Share, *, fresh: bool = False) -> list[Body]:
    """The guard as ``share`` has it, in the place of what is in force; what was counted is kept.

    ``fresh``: there is none yet.
    """
    own = text(1, TABLE)
    bodies: list[Body] = [(NEW_TABLE, CREATE, own)]
    zero = nest(4, number(1, 0, 8), number(2, 0, 8))
    bodies += [(NEW_OBJECT, CREATE, own + text(2, name) + number(3, x.COUNTER) + zero) for name in COUNTERS]
    set_of_users = number(3, SET_TIMEOUT) + number(4, 0) + number(5, 4) + number(10, 1)
    bodies.append((NEW_SET, CREATE, own + text(2, PORTAL_USERS) + set_of_users))
    chains = {
        NAMES: _names(share),
        INSIDE_TUNNEL: _inside(share),
        OUTER: _openings(share.openings, TUNNEL),
        OUTER_LEAVING: _openings(share.openings),
        LET_THROUGH: _let_through(share),
        LET_LEAVE: _let_leave(share),
        "sent": _reject(share),
        "passed_on": _reject(share),
        "leaving": _drop(share),
    }
    for name in chains:
        hook = b""
        if name in BASE_CHAINS:
            where = nest(4, *(number(kind, value) for kind, value in enumerate(BASE_CHAINS[name], start=1)))
            hook = where + number(5, POLICY_ACCEPT) + text(7, "filter")
        bodies.append((NEW_CHAIN, CREATE, own + text(3, name) + hook))
    for name in () if fresh else reversed(chains):
        # All rules of the chain, where it has been there before.
        bodies.append((DELETE_RULE, 0, own + text(2, name)))
    return [*bodies, *(_rule(name, rule) for name, rules in chains.items() for rule in rules)]


def _rule(chain: str, rule: bytes) -> Body:
    return NEW_RULE, CREATE | APPEND, text(1, TABLE) + text(2, chain) + nest(4, rule)


def portal_opening(user: int, seconds: int) -> list[Body]:
    """A user's web pages may leave for so long; the kernel itself closes it. 0: at once."""
    own = text(1, TABLE) + text(2, PORTAL_USERS)
    key = nest(1, attribute(1, x.native(user)))
    element = nest(3, nest(1, key, number(4, seconds * 1000, 8)))
    # Made, so that it can be deleted; then made with its new time.
    fresh: list[Body] = [(NEW_ELEMENT, CREATE, own + element)] if seconds else []
    return [
        (NEW_ELEMENT, CREATE, own + nest(3, nest(1, key))),
        (DELETE_ELEMENT, 0, own + nest(3, nest(1, key))),
        *fresh,
    ]


def _names(share: Share) -> Iterable[bytes]:
    """Where everything is held, names are asked of the tunnels' own servers alone."""
    for device, address in share.servers:
        yield x.by_device(device) + x.towards(address) + x.count(INSIDE) + ACCEPT


def _inside(share: Share) -> Iterable[bytes]:
    """Into a tunnel's device."""
    if _holds_everything(share):
        for protocol, port in DNS_PORTS:
            yield x.to_port(protocol, port) + x.verdict(x.GOTO, NAMES)
    yield x.count(INSIDE) + ACCEPT


def _let_through(share: Share) -> Iterable[bytes]:
    """The first look, which counts: what is carried much comes first."""
    yield x.about(x.MARK, x.native(MARK)) + x.verdict(x.JUMP, OUTER)
    for device in share.devices:
        yield x.by_device(device) + x.verdict(x.GOTO, INSIDE_TUNNEL)
    yield x.by_device("lo") + ACCEPT
    yield from _beside(share, counted=True)


def _let_leave(share: Share) -> Iterable[bytes]:
    """The second look, at the last device: what goes into a tunnel was looked at before."""
    yield x.about(x.MARK, x.native(MARK)) + x.verdict(x.JUMP, OUTER_LEAVING)
    for device in (*share.devices, "lo"):
        yield x.by_device(device) + ACCEPT
    yield from _beside(share, counted=False)


def _holds_everything(share: Share) -> bool:
    return any(network in EVERYTHING for network in share.held)


def _beside(share: Share, *, counted: bool) -> Iterable[bytes]:
    """By other devices than those of the tunnels: where everything is held, no question for a name."""

    def let(counter: str) -> bytes:
        return (x.count(counter) if counted else b"") + ACCEPT

    user = x.user_in(PORTAL_USERS)
    for protocol, port in (*WEB_PORTS, *DNS_PORTS[:2]):
        # A user who has to sign in to the local network first.
        yield user + x.to_port(protocol, port) + let(PORTAL)
    if _holds_everything(share):
        for protocol, port in DNS_PORTS:
            yield x.to_port(protocol, port) + x.verdict(x.RETURN)
    for kind in NEIGHBOUR_DISCOVERY:
        yield x.icmpv6(kind) + x.hop_limit(255) + let(NEIGHBOURS)
    for kind in LISTENER_REPORTS:
        yield x.towards(LINK_MULTICAST) + x.icmpv6(kind) + x.hop_limit(1) + let(NEIGHBOURS)
    for rule in _address_assignment(share):
        yield rule + let(ADDRESSES)
    for device, network in share.local:
        yield x.by_device(device) + x.towards(network) + let(LOCAL)
    for network in share.left_out:
        yield x.towards(network) + let(LEFT_OUT)


def _openings(openings: Iterable[Opening], counter: str = "") -> Iterable[bytes]:
    for address, protocol, port in openings:
        counted = x.count(counter) if counter else b""
        yield x.towards(address) + x.to_port(protocol, port) + counted + ACCEPT


def _address_assignment(share: Share) -> Iterable[bytes]:
    """DHCP (RFC 2131 §4.1, RFC 9915): by broadcast and multicast, and to servers in the local networks."""
    dhcp, dhcpv6 = x.between_ports(UDP, 68, 67), x.between_ports(UDP, 546, 547)
    yield x.towards(BROADCAST) + dhcp
    for device, network in share.local:
        if network.version == 4:
            yield x.by_device(device) + x.towards(network) + dhcp
    for target in (DHCP_SERVERS, LINK_LOCAL):
        yield x.towards(target) + dhcpv6


def _reject(share: Share) -> Iterable[bytes]:
    """TCP by its own means (RFC 9293 §3.5.2), which ends a connection at once; the rest by ICMP."""
    yield x.verdict(x.JUMP, LET_THROUGH)
    for network in share.held:
        yield x.towards(network) + x.of_protocol(TCP) + x.count(REJECTED) + x.reset()
        yield x.towards(network) + x.count(REJECTED) + x.reject()


def _drop(share: Share) -> Iterable[bytes]:
    yield x.verdict(x.JUMP, LET_LEAVE)
    for network in share.held:
        yield x.towards(network) + x.count(DROPPED) + x.verdict(x.DROP)
