"""Links, addresses, routes and rules as the kernel takes them, read by an independent program (``ip``)."""

from __future__ import annotations

import fcntl
import json
import os
import struct
import subprocess

import pytest

from support import in_a_network_of_its_own
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.netlink import RT_TABLE_MAIN, RTPROT_DHCP, Netlink, Route, Rule

TABLE = 23106
ROUTES = [
    Route("0.0.0.0/0", RT_TABLE_MAIN, "one", "192.168.5.1"),
    Route("::/0", RT_TABLE_MAIN, "one", "2001:db8:5::1"),
    Route("10.0.0.0/8", TABLE, "one", metric=7),
    Route("10.1.0.0/16", TABLE, "one", "192.168.5.1", source="192.168.5.2"),
    Route("0.0.0.0/0", TABLE, kind="unreachable", metric=0xFFFFFFFF),
    Route("::/0", TABLE, kind="unreachable", metric=0xFFFFFFFF),
    Route("fd20::/48", TABLE, "one"),
]
RULES = [Rule(4, 100, TABLE, "10.0.0.0/8"), Rule(4, 101, RT_TABLE_MAIN, "198.51.100.18/32"), Rule(6, 102, TABLE)]


def with_netlink(act, *, user=0):
    def whole():
        if user:
            os.setuid(user)
        with Netlink() as netlink:
            act(netlink)

    in_a_network_of_its_own(whole)


def ip(*words):
    ended = subprocess.run(["ip", "-j", *words], capture_output=True, text=True, check=True)
    return json.loads(ended.stdout or "[]")


def pair(netlink):
    netlink.set_link("lo", state="up")
    netlink.add_pair("one", "other")
    netlink.set_link("one", state="up", mtu=1400, txqlen=77)
    netlink.set_link("other", state="up")
    netlink.add_address("one", "192.168.5.2/24")
    netlink.add_address("one", "2001:db8:5::2/64")


def test_links_and_addresses():
    def act(netlink):
        pair(netlink)
        netlink.set_link("one", gso_max_size=20000)
        netlink.set_link("other", ifname="renamed")
        (one,) = ip("-d", "link", "show", "one")
        assert (one["mtu"], one["txqlen"], one["gso_max_size"]) == (1400, 77, 20000) and "UP" in one["flags"]
        assert ip("link", "show", "renamed")
        (shown,) = ip("address", "show", "one")
        held = {f"{row['local']}/{row['prefixlen']}" for row in shown["addr_info"]}
        assert held >= {"192.168.5.2/24", "2001:db8:5::2/64"} and set(netlink.addresses("one")) == held
        assert not any(row.get("tentative") for row in shown["addr_info"] if row["local"] == "2001:db8:5::2")
        assert netlink.mtu("one") == 1400 and netlink.is_up("one") and not netlink.is_up("nowhere")
        assert netlink.point_to_point() == []
        subprocess.run(["ip", "tuntap", "add", "dev", "other0", "mode", "tun"], check=True)
        assert netlink.point_to_point() == ["other0"]
        netlink.remove_address("one", "192.168.5.2/24")
        assert "192.168.5.2/24" not in netlink.addresses("one")
        netlink.delete_link("one")
        netlink.delete_link("one")
        assert {row["ifname"] for row in ip("link")} == {"lo", "other0"}

    with_netlink(act)


def test_a_device_without_addresses_of_its_own():
    """The kernel makes none, so that it asks for no router there; another device has one."""

    def act(netlink):
        for name in ("other0", "other1"):
            subprocess.run(["ip", "tuntap", "add", "dev", name, "mode", "tun"], check=True)
        netlink.without_own_addresses("other0")
        descriptors = [attach(name) for name in ("other0", "other1")]
        for name in ("other0", "other1"):
            netlink.set_link(name, state="up")
        assert netlink.addresses("other0") == []
        assert [one.partition("::")[0] for one in netlink.addresses("other1")] == ["fe80"]
        netlink.set_link("other1", state="down")
        assert not netlink.is_up("other1") and netlink.is_up("other0")
        for one in descriptors:
            os.close(one)

    with_netlink(act)


def attach(name):
    descriptor = os.open("/dev/net/tun", os.O_RDWR)
    fcntl.ioctl(descriptor, 0x400454CA, struct.pack("16sH22x", name.encode(), 0x1001))
    return descriptor


def test_what_a_link_takes():
    """The device's size, or the route's where that is smaller; what was learnt of the path does not count."""

    def act(netlink):
        pair(netlink)
        assert netlink.mtu_towards("192.168.5.9") == 1400
        assert netlink.mtu_towards("2001:db8:5::9") == 1400
        subprocess.run(["ip", "route", "add", "203.0.113.0/24", "via", "192.168.5.1", "mtu", "1300"], check=True)
        assert netlink.mtu_towards("203.0.113.10") == 1300
        with pytest.raises(MachineError):
            netlink.mtu_towards("198.51.100.1")
        netlink.add_route(Route("198.51.100.0/24", RT_TABLE_MAIN, "one", "192.168.5.1"), RTPROT_DHCP)
        assert [one.destination for one in netlink.routes_by(RTPROT_DHCP)] == ["198.51.100.0/24"]

    with_netlink(act)


def test_routes_and_rules():
    """Each is added, seen by `ip` and by ourselves in the same way, and gone again; deleting twice is no error."""

    def act(netlink):
        pair(netlink)
        before = ip("-4", "route"), ip("-6", "route")
        for route in ROUTES:
            netlink.add_route(route)
        for rule in RULES:
            netlink.add_rule(rule)
        shown = {row["dst"]: row for row in ip("-4", "route", "show", "table", str(TABLE))}
        assert shown["10.0.0.0/8"]["metric"] == 7 and shown["10.0.0.0/8"]["scope"] == "link"
        assert (shown["10.1.0.0/16"]["gateway"], shown["10.1.0.0/16"]["prefsrc"]) == ("192.168.5.1", "192.168.5.2")
        assert shown["default"]["type"] == "unreachable"
        shown = {row["dst"]: row for row in ip("-6", "route", "show", "table", str(TABLE))}
        assert shown["default"]["type"] == "unreachable" and shown["fd20::/48"]["dev"] == "one"
        assert {(row["priority"], row["table"], row.get("dst")) for row in ip("rule")} >= {
            (100, str(TABLE), "10.0.0.0"),
            (101, "main", "198.51.100.18"),
        }
        seen = {(one.destination, one.device, one.gateway, one.kind) for one in netlink.routes(TABLE)}
        wanted = [one for one in ROUTES if one.table == TABLE]
        assert seen == {(one.destination, one.device, one.gateway, one.kind) for one in wanted}
        assert set(RULES) <= set(netlink.rules())
        assert [netlink.device_towards(one) for one in ("10.9.9.9", "203.0.113.9", "2001:db8:99::1")] == [
            "one",
            "one",
            "",
        ]
        local = {(one.device, str(one.network)) for one in netlink.on_link_networks()}
        assert local >= {("one", "192.168.5.0/24"), ("one", "2001:db8:5::/64")} and ("one", "0.0.0.0/0") not in local
        for _ in range(2):
            for route in ROUTES:
                netlink.delete_route(route)
            for rule in RULES:
                netlink.delete_rule(rule)
        assert netlink.routes(TABLE) == [] and not set(RULES) & set(netlink.rules())
        assert (ip("-4", "route"), ip("-6", "route")) == before

    with_netlink(act)


def test_what_the_kernel_refuses():
    def act(netlink):
        pair(netlink)
        for call, words in (
            (lambda: netlink.add_address("one", "192.168.5.2/24"), "EEXIST"),
            (lambda: netlink.add_route(Route("10.0.0.0/8", TABLE, "nowhere")), "no network device nowhere"),
            (lambda: netlink.add_route(Route("10.0.0.0/8", TABLE, "one", "172.16.0.1")), "ENETUNREACH"),
            (lambda: netlink.set_link("one", ifname="lo"), "EEXIST"),
            (lambda: netlink.remove_address("one", "192.0.2.1/32"), "EADDRNOTAVAIL"),
        ):
            with pytest.raises(MachineError, match=words):
                call()
        # And goes on as if nothing had been.
        assert netlink.is_up("one")

    with_netlink(act)


def test_without_rights():
    def act(netlink):
        with pytest.raises(RightsMissing):
            netlink.set_link("lo", state="up")
        assert netlink.rules()

    with_netlink(act, user=65534)
