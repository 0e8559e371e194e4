"""What the local network's router lets out: everything, no UDP, the web alone, or who has signed in on its page."""

from __future__ import annotations

from collections.abc import Set

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.host.netlink_messages import APPEND, CREATE, attribute, nest, text
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.messages import (
    DELETE_RULE,
    INET,
    NEW_CHAIN,
    NEW_RULE,
    NEW_TABLE,
    Body,
    FilterSocket,
    number,
)

TABLE = "local_network"
HTTP, HTTPS = 80, 443
FLAGS, PUSH = 13, b"\x08"
"""Where TCP's flags are, and the one of a segment that says something (RFC 9293 §3.1)."""
FORWARD, PREROUTING = (2, 0), (0, -100)
"""Hook and priority of a filter for what is passed on, and of destination address translation."""


def _rule(chain: str, rule: bytes) -> Body:
    return NEW_RULE, CREATE | APPEND, text(1, TABLE) + text(2, chain) + nest(4, rule)


def _chain(name: str, kind: str, where: tuple[int, int]) -> Body:
    hook = nest(4, *(number(key, value) for key, value in enumerate(where, start=1)))
    return NEW_CHAIN, CREATE, text(1, TABLE) + text(3, name) + hook + text(7, kind)


def filter_network(devices: tuple[str, ...], page_port: int, faults: Set[str], *, guests: bool) -> None:
    """In place of what was set before. ``guests``: web pages are answered at ``page_port``, and nothing gets out.

    What the router itself answers is not passed on, and so not concerned.
    """
    own = text(1, TABLE)
    bodies: list[Body] = [
        (NEW_TABLE, CREATE, own),
        _chain("out", "filter", FORWARD),
        _chain("pages", "nat", PREROUTING),
    ]
    for chain in ("out", "pages"):
        # A rule of no effect, so that there is something to delete.
        bodies += [_rule(chain, x.verdict(x.CONTINUE)), (DELETE_RULE, 0, own + text(2, chain))]
    to_page = x.expression("immediate", number(1, x.REGISTER), nest(2, attribute(1, page_port.to_bytes(2))))
    to_page += x.expression("redir", number(1, x.REGISTER))
    # One such rule stays, for no device: without any the kernel no longer translates what belongs to a connection that
    # was led to the page, as the answer to somebody who has just signed in.
    for device in ("", *(devices if guests else ())):
        bodies.append(_rule("pages", x.by_device(device, x.IN_DEVICE) + x.to_port(TCP, HTTP) + to_page))
    for device in devices:
        arriving = x.by_device(device, x.IN_DEVICE)
        if "udp-blocked" in faults:
            bodies.append(_rule("out", arriving + x.of_protocol(UDP) + x.verdict(x.DROP)))
        if "resets" in faults:
            # Whatever says something: the connection itself comes about.
            speaks = x.of_protocol(TCP) + x.octets_are(x.TRANSPORT_HEADER, FLAGS, PUSH, PUSH)
            bodies.append(_rule("out", arriving + speaks + x.reset()))
        if "only-web" in faults and not guests:
            bodies.append(_rule("out", arriving + x.to_port(TCP, HTTPS) + x.verdict(x.ACCEPT)))
        if guests or not faults.isdisjoint({"only-proxy", "only-web"}):
            bodies.append(_rule("out", arriving + x.reject()))
    FilterSocket().transact(INET, bodies, "setting what the local network lets out")
