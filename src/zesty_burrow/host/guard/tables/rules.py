"""The guard where the IP stack sends and passes on packets (family inet), made from what is to be let through.

Base chains look at what programs of this machine send and at what it passes on for others, and reject what is not let
through, with an answer that says so. One more, behind everything, where a packet's last device is known, drops the same
once more. Regular chains say what is let through. What is let through here may still be refused by other tables.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zesty_burrow.core.net import TCP, LocalNetwork
from zesty_burrow.host.guard.plan import MARK, Share
from zesty_burrow.host.guard.presence import TABLE
from zesty_burrow.host.guard.tables.allow_list import (
    ACCEPT,
    COUNTERS,
    DNS_PORTS,
    DROPPED,
    INSIDE,
    LEFT_OUT,
    LOCAL,
    PORTAL_USERS,
    REJECTED,
    RETURN,
    AllowedPackets,
    checked_rules,
    holds_everything,
    rows_beside,
    tunnel_rows,
)
from zesty_burrow.host.netlink_messages import APPEND, CREATE, attribute, nest, text
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.messages import (
    DELETE_ELEMENT,
    DELETE_TABLE,
    INET,
    NEW_CHAIN,
    NEW_ELEMENT,
    NEW_RULE,
    NEW_TABLE,
    Body,
    number,
)
from zesty_burrow.host.packet_filter.table import Chain, Hook, TableSpec

LET_THROUGH, LET_LEAVE, INSIDE_TUNNEL, NAMES = "let_through", "let_leave", "inside_tunnel", "names"
OUTER, OUTER_LEAVING, BESIDE, BESIDE_LEAVING = "outer", "outer_leaving", "beside", "beside_leaving"
FORWARD, LOCAL_OUT, POSTROUTING = 2, 3, 4
LAST = 0x7FFF_FFFF
BASE_CHAINS = {"sent": (LOCAL_OUT, 0), "passed_on": (FORWARD, 0), "leaving": (POSTROUTING, LAST)}
"""Hook and priority: those of a filter, and behind everything that changes packets."""


def inet_table(share: Share, on_link: Iterable[LocalNetwork], user: int, *, by_socket: bool = False) -> TableSpec:
    """``user``: who opens the tunnels' sockets; ``on_link``: the networks that this machine is in; ``by_socket``: the
    kernel can compare a socket's own mark, so that no other rule can give it to somebody else's packets.
    """
    own_socket = x.about(x.MARK, x.native(MARK)) + x.user_is(user)
    own_sender = own_socket + (x.socket_mark(MARK) if by_socket else b"")
    rows = list(rows_beside(share, on_link))
    chains = {
        **{
            checked(counter, version, counted=counted): Chain(tuple(checked_rules(version, counter if counted else "")))
            for counter in (LOCAL, LEFT_OUT)
            for version in (4, 6)
            for counted in (True, False)
        },
        NAMES: Chain(tuple(_names(share))),
        INSIDE_TUNNEL: Chain(tuple(_inside(share))),
        OUTER: Chain(tuple(_openings(share, counted=True))),
        OUTER_LEAVING: Chain(tuple(_openings(share, counted=False))),
        BESIDE: Chain(tuple(_rule(row, counted=True) for row in rows)),
        BESIDE_LEAVING: Chain(tuple(_rule(row, counted=False) for row in rows)),
        LET_THROUGH: Chain(tuple(_let_through(share))),
        LET_LEAVE: Chain(tuple(_let_leave(share, own_socket))),
        # What is carried much comes first. Nothing of what is passed on for others is the tunnels' own.
        "sent": Chain((own_sender + x.verdict(x.JUMP, OUTER), *_reject(share)), Hook(*BASE_CHAINS["sent"])),
        "passed_on": Chain(tuple(_reject(share)), Hook(*BASE_CHAINS["passed_on"])),
        "leaving": Chain(tuple(_drop(share)), Hook(*BASE_CHAINS["leaving"])),
    }
    return TableSpec(INET, TABLE, chains, COUNTERS, (PORTAL_USERS,))


def checked(counter: str, version: int, *, counted: bool = True) -> str:
    """The chain that lets through what has ports that can be read."""
    return f"{counter}_ipv{version}" + ("" if counted else "_leaving")


def portal_opening(user: int, seconds: int, *, present: bool) -> list[Body]:
    """A user's web pages may leave for so long; the kernel itself closes it. 0: at once.

    ``present``: it is open already.
    """
    own = text(1, TABLE) + text(2, PORTAL_USERS)
    key = nest(1, attribute(1, x.native(user)))
    bodies: list[Body] = [(DELETE_ELEMENT, 0, own + nest(3, nest(1, key)))] if present else []
    if seconds:
        bodies.append((NEW_ELEMENT, CREATE, own + nest(3, nest(1, key, number(4, seconds * 1000, 8)))))
    return bodies


def _rule(row: AllowedPackets, *, counted: bool) -> bytes:
    match = (x.of_version(row.version) if row.version else b"") + (x.by_device(row.device) if row.device else b"")
    return match + row.match + end_of(row, counted=counted)


def end_of(row: AllowedPackets, *, counted: bool = True) -> bytes:
    """What becomes of a packet that a row matches."""
    if not row.counter:
        return RETURN
    if row.checked:
        return x.verdict(x.GOTO, checked(row.counter, row.version, counted=counted))
    return (x.count(row.counter) if counted else b"") + ACCEPT


def _names(share: Share) -> Iterator[bytes]:
    """Where everything is held, names are asked of the tunnels' own servers alone."""
    for device, address in share.servers:
        yield x.by_device(device) + x.towards(address) + x.count(INSIDE) + ACCEPT


def _inside(share: Share) -> Iterator[bytes]:
    if holds_everything(share):
        for protocol, port in DNS_PORTS:
            yield x.to_port(protocol, port) + x.verdict(x.GOTO, NAMES)
    yield x.count(INSIDE) + ACCEPT


def _openings(share: Share, *, counted: bool) -> Iterator[bytes]:
    for row in tunnel_rows(share.openings, fragments=False):
        yield x.of_version(row.version) + row.match + (x.count(row.counter) if counted else b"") + ACCEPT


def _let_through(share: Share) -> Iterator[bytes]:
    """The first look, which counts."""
    for device in share.devices:
        yield x.by_device(device) + x.verdict(x.GOTO, INSIDE_TUNNEL)
    yield x.by_device("lo") + ACCEPT
    yield x.verdict(x.GOTO, BESIDE)


def _let_leave(share: Share, own_socket: bytes) -> Iterator[bytes]:
    """The second look, at the last device: what goes into a tunnel was looked at before."""
    yield own_socket + x.verdict(x.JUMP, OUTER_LEAVING)
    for device in (*share.devices, "lo"):
        yield x.by_device(device) + ACCEPT
    yield x.verdict(x.GOTO, BESIDE_LEAVING)


def _reject(share: Share) -> Iterator[bytes]:
    """TCP by its own means (RFC 9293 §3.5.2), which ends a connection at once; the rest by ICMP."""
    yield x.verdict(x.JUMP, LET_THROUGH)
    for network in share.held:
        yield x.towards(network) + x.of_protocol(TCP) + x.count(REJECTED) + x.reset()
        yield x.towards(network) + x.count(REJECTED) + x.reject()


def _drop(share: Share) -> Iterator[bytes]:
    yield x.verdict(x.JUMP, LET_LEAVE)
    for network in share.held:
        yield x.towards(network) + x.count(DROPPED) + x.verdict(x.DROP)


def socket_probe() -> list[Body]:
    """Changes that come to nothing, and that a kernel without the comparison of sockets refuses."""
    own = text(1, f"{TABLE}_probe")
    hook = nest(4, number(1, LOCAL_OUT), number(2, 0)) + text(7, "filter")
    rule = own + text(2, "sent") + nest(4, x.socket_mark(MARK))
    return [
        (NEW_TABLE, CREATE, own),
        (NEW_CHAIN, CREATE, own + text(3, "sent") + hook),
        (NEW_RULE, CREATE | APPEND, rule),
        (DELETE_TABLE, 0, own),
    ]
