"""Address translation, as a router has it. For the lab's routers and gateways."""

from __future__ import annotations

import ipaddress
import socket

from zesty_burrow.host.netlink_messages import APPEND, CREATE, attribute, nest, text
from zesty_burrow.host.packet_filter.expressions import (
    IN_DEVICE,
    REGISTER,
    by_device,
    expression,
    of_protocol,
    towards,
)
from zesty_burrow.host.packet_filter.messages import (
    DELETE_TABLE,
    IPV4,
    IPV6,
    NEW_CHAIN,
    NEW_RULE,
    NEW_TABLE,
    FilterSocket,
    number,
)

POSTROUTING, PRIORITY_SRCNAT = 4, 100
PREROUTING, PRIORITY_DSTNAT = 0, -100 & 0xFFFF_FFFF
DNAT = 1


def _rule(device: str, source: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bytes:
    """What came in by ``device`` and is passed on gets ``source`` as its source address."""
    family = socket.AF_INET if source.version == 4 else socket.AF_INET6
    # NFT_NAT_SNAT is 0; attributes 3 and 4 are the registers of the lowest and the highest address.
    return (
        by_device(device, IN_DEVICE)
        + expression("immediate", number(1, REGISTER), nest(2, attribute(1, source.packed)))
        + expression("nat", number(1, 0), number(2, family), number(3, REGISTER), number(4, REGISTER))
    )


def translate_source(device: str, source: str, table: str = "zesty") -> None:
    """Give all that comes in by a device and is passed on another source address, in place of earlier such rules.

    Raises :class:`MachineError`.
    """
    address = ipaddress.ip_address(source)
    own = text(1, table)
    hook = nest(4, number(1, POSTROUTING), number(2, PRIORITY_SRCNAT))
    bodies = [
        # Made, deleted and made again in one batch: whatever was there before is replaced at once.
        (NEW_TABLE, CREATE, own),
        (DELETE_TABLE, 0, own),
        (NEW_TABLE, CREATE, own),
        (NEW_CHAIN, CREATE, own + text(3, "leaving") + hook + text(7, "nat")),
        (NEW_RULE, CREATE | APPEND, own + text(2, "leaving") + nest(4, _rule(device, address))),
    ]
    FilterSocket().transact(IPV4 if address.version == 4 else IPV6, bodies, "setting up address translation")


def pass_on(protocol: int, public: str, to: str, table: str) -> None:
    """Give what comes to ``public`` by a protocol without ports to a host behind this router.

    The kernel's own translation does not know whose the calls of PPTP are (RFC 2637 §4.1). Raises
    :class:`MachineError`.
    """
    target = ipaddress.IPv4Address(to)
    own = text(1, table)
    hook = nest(4, number(1, PREROUTING), number(2, PRIORITY_DSTNAT))
    rule = (
        towards(ipaddress.IPv4Address(public))
        + of_protocol(protocol)
        + expression("immediate", number(1, REGISTER), nest(2, attribute(1, target.packed)))
        + expression("nat", number(1, DNAT), number(2, socket.AF_INET), number(3, REGISTER), number(4, REGISTER))
    )
    bodies = [
        (NEW_TABLE, CREATE, own),
        (DELETE_TABLE, 0, own),
        (NEW_TABLE, CREATE, own),
        (NEW_CHAIN, CREATE, own + text(3, "coming") + hook + text(7, "nat")),
        (NEW_RULE, CREATE | APPEND, own + text(2, "coming") + nest(4, rule)),
    ]
    FilterSocket().transact(IPV4, bodies, "setting up address translation")
