"""Notices that this machine's route to an address has changed: another address of its own, another route."""

from __future__ import annotations

import socket
from contextlib import suppress

from zesty_burrow.errors import MachineError
from zesty_burrow.host.netlink import Netlink

RTMGRP_LINK, RTMGRP_IPV4_IFADDR, RTMGRP_IPV4_ROUTE = 0x1, 0x10, 0x40
RTMGRP_IPV6_IFADDR, RTMGRP_IPV6_ROUTE = 0x100, 0x400
RTMGRP_IPV4_RULE, RTMGRP_IPV6_RULE = 0x80, 0x40000
"""Multicast groups of rtnetlink (linux/rtnetlink.h)."""
NETLINK_NETFILTER, NFNLGRP_NFTABLES = 12, 7
"""Linux ``netlink.h``, ``nfnetlink.h``: the group of the packet filter's changes."""
IP_MTU, IPV6_MTU = 14, 24
"""Linux ``in.h``: the path MTU of a connected socket."""
GROUPS = RTMGRP_LINK | RTMGRP_IPV4_IFADDR | RTMGRP_IPV4_ROUTE | RTMGRP_IPV6_IFADDR | RTMGRP_IPV6_ROUTE
GROUPS |= RTMGRP_IPV4_RULE | RTMGRP_IPV6_RULE


def open_watch() -> socket.socket:
    """A socket that becomes readable when links, addresses, routes or rules change; what it says does not matter."""
    watch = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC, 0)
    watch.bind((0, GROUPS))
    return watch


def open_filter_watch() -> socket.socket:
    """A socket that becomes readable when the packet filter's tables change. Raises ``OSError`` withoutne."""
    watch = socket.socket(
        socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC, NETLINK_NETFILTER
    )
    watch.bind((0, 1 << NFNLGRP_NFTABLES - 1))
    return watch


def drain(watch: socket.socket) -> None:
    """Read what has come, also where it was too much for the socket."""
    for _ in range(1000):
        try:
            watch.recv(65536)
        except BlockingIOError:
            return
        except OSError:
            continue


def path_mtu(address: str) -> int:
    """The largest IP packet that the path to an address takes, as the kernel knows it now (RFC 1191, RFC 8201).

    0 where there is no route. Sends nothing.
    """
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as probe:
        probe.connect((address, 9))
        if family == socket.AF_INET6:
            return probe.getsockopt(socket.IPPROTO_IPV6, IPV6_MTU)
        return probe.getsockopt(socket.IPPROTO_IP, IP_MTU)
    return 0


def link_mtu(address: str) -> int:
    """The largest IP packet that this machine's own link and routes take on the way to an address; 0 without a route.

    Nothing that anybody on the way has claimed counts.
    """
    with suppress(MachineError), Netlink() as netlink:
        return netlink.mtu_towards(address)
    return 0


def source_towards(address: str) -> str:
    """The address that a packet to another one would come from now; empty where there is no route. Sends nothing."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with suppress(OSError), socket.socket(family, socket.SOCK_DGRAM) as probe:
        probe.connect((address, 9))
        return str(probe.getsockname()[0])
    return ""
