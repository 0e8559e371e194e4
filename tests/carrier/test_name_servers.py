"""Name servers that a gateway names: which are used, which are refused."""

from __future__ import annotations

from ipaddress import ip_address, ip_interface

import pytest

from zesty_burrow.carrier.network.host_config import sort_servers
from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.session import NetworkSettings, Up

GATEWAY = "198.51.100.18"
ALL = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
OFFICE = (AddressRange(bytes((10, 20, 0, 0)), bytes((10, 20, 255, 255))),)
BOTH = ("10.66.1.10/32", "fd66:1::a/128")


@pytest.mark.parametrize(
    ("server", "addresses", "remote", "fate"),
    [
        ("198.51.100.242", BOTH, ALL, "used"),
        ("2001:db8:10ff::2", BOTH, ALL, "used"),
        ("10.20.0.53", BOTH, OFFICE, "used"),
        ("2001:db8:10ff::2", BOTH[:1], ALL, "left out"),
        ("198.51.100.242", BOTH, OFFICE, "left out"),
        (GATEWAY, BOTH, ALL, "refused"),
        ("10.66.1.10", BOTH, ALL, "refused"),
        ("fd66:1::a", BOTH, ALL, "refused"),
        ("0.0.0.0", BOTH, ALL, "refused"),
        ("0.1.2.3", BOTH, ALL, "refused"),
        ("127.0.0.1", BOTH, ALL, "refused"),
        ("127.0.0.53", BOTH, OFFICE, "refused"),
        ("169.254.1.1", BOTH, ALL, "refused"),
        ("224.0.0.251", BOTH, ALL, "refused"),
        ("255.255.255.255", BOTH, ALL, "refused"),
        ("::", BOTH, ALL, "refused"),
        ("::1", BOTH, ALL, "refused"),
        ("::ffff:127.0.0.1", BOTH, ALL, "refused"),
        ("::ffff:198.51.100.242", BOTH, ALL, "refused"),
        ("fe80::1", BOTH, ALL, "refused"),
        ("ff02::fb", BOTH, ALL, "refused"),
    ],
)
def test_each_server(server, addresses, remote, fate):
    """Used where the gateway carries it; refused where no name server can be, whatever is carried."""
    one = ip_address(server)
    network = NetworkSettings(addresses=tuple(map(ip_interface, addresses)), name_servers=(one,))
    usable, refused = sort_servers(Up(0.0, network, remote, None), GATEWAY)
    assert {"used": ((one,), ()), "left out": ((), ()), "refused": ((), (one,))}[fate] == (usable, refused)
