"""The map of all ways out against the kernel: its own route lookup for random rules, and captures for packet filters."""

from __future__ import annotations

import os
import random
import select
import socket
import subprocess
import sys
import time

import pytest

from host.random_routing import clear, ip, make_devices, network_of
from rotation import DAY
from support import in_a_network_of_its_own
from zesty_burrow.core.ways_out.classes.conditions import BOUND, DESTINATION, ENTRY, MARK, PORT, PROTOCOL, USER
from zesty_burrow.core.ways_out.kernel.egress import derive
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.ways_out.elsewhere import other_deciders
from zesty_burrow.host.ways_out.filter_tables import read_filters
from zesty_burrow.host.ways_out.look import LINK_SCOPE, compare_with_kernel, look_at_ways
from zesty_burrow.host.ways_out.routing_tables import read_routing
from zesty_burrow.host.ways_out.sockets import bound_sockets

ROUNDS = int(os.environ.get("ZESTY_ROUNDS", "60"))
"""Random rule sets of a run; 10,000 were compared when the map was made."""
NOBODY = 1234


def test_random_rules_against_the_kernel():
    """Each class of packets that rules and routes tell apart: one member goes where the map says."""

    def act():
        make_devices()
        time.sleep(1)
        asked = 0
        with Netlink() as netlink:
            for number in range(ROUNDS):
                draw = random.Random(1000 * DAY + number)
                clear()
                lines = [*network_of(draw, 4), *network_of(draw, 6)]
                ip(lines)
                for version in (4, 6):
                    facts = read_routing(netlink, version)
                    from zesty_burrow.core.ways_out.kernel.filter_facts import NOTHING

                    ways = derive(facts, NOTHING, LINK_SCOPE[version])
                    count, differing = compare_with_kernel(netlink, ways)
                    assert differing == [], (number, lines)
                    asked += count
        assert asked > 20 * ROUNDS

    in_a_network_of_its_own(act)


def nft(*lines):
    subprocess.run(["nft", "-f", "-"], input="\n".join(lines), text=True, check=True)


def devices_of(ways, devices, **values):
    """By which devices one packet may leave, by the map."""
    packet = {DESTINATION: int.from_bytes(socket.inet_aton("192.0.2.9")), PROTOCOL: 17, PORT: 8080, ENTRY: 1, **values}
    found = set()
    for way in ways.ways:
        fields = list(zip(ways.space.fields, ways.space.partitions, way.sent, strict=True))
        if all(part.class_of(packet[field]) & classes for field, part, classes in fields if field in packet):
            found.add(devices[way.device])
    return found


FILTERS = [
    ("nothing", []),
    ("drops a port", ["add rule ip t out udp dport 8080 drop"]),
    ("drops others", ["add rule ip t out udp dport != 8080 drop"]),
    ("a set", ["add rule ip t out udp dport { 8080, 9000-9010 } drop"]),
    ("not in a set", ["add rule ip t out udp dport != { 53, 8081-8090 } drop"]),
    ("a prefix", ["add rule ip t out ip daddr 192.0.2.0/25 drop"]),
    ("another prefix", ["add rule ip t out ip daddr 192.0.2.128/25 drop"]),
    ("a range", ["add rule ip t out ip daddr 192.0.2.5-192.0.2.20 drop"]),
    ("an octet's prefix", ["add rule ip t out ip daddr 192.0.0.0/16 drop"]),
    ("marks", ["add rule ip t out udp dport 8080 meta mark set 0x5"]),
    ("marks by a bit", ["add rule ip t out udp dport 8080 meta mark set mark or 0x5"]),
    ("marks another", ["add rule ip t out udp dport 8080 meta mark set 0x6"]),
    ("marks by a map", ["add map ip t m { type inet_service : mark; elements = { 8080 : 0x5, 53 : 0x7 } }",
                        "add rule ip t out meta mark set udp dport map @m"]),
    ("jumps", ["add chain ip t more", "add rule ip t more ip protocol udp meta mark set 0x5",
               "add rule ip t out ip daddr 192.0.2.9 jump more"]),
    ("a map of verdicts", ["add chain ip t more", "add rule ip t more meta mark set 0x5",
                           "add rule ip t out udp dport vmap { 53 : drop, 8080 : jump more }"]),
    ("returns first", ["add rule ip t out udp dport 8080 return", "add rule ip t out meta mark set 0x5"]),
    ("accepts first", ["add rule ip t out udp dport 8080 accept", "add rule ip t out meta mark set 0x5"]),
    ("by the leaving device", ['add rule ip t out oifname "tun" meta mark set 0x5']),
    ("by another device", ['add rule ip t out oifname "third" meta mark set 0x5']),
    ("by a beginning of names", ['add rule ip t out oifname "tu*" drop']),
    ("by a device that came in", ['add rule ip t out iifname != "third" drop']),
    ("by a user", [f"add rule ip t out meta skuid {NOBODY} meta mark set 0x5"]),
    ("by another user", ["add rule ip t out meta skuid 77 meta mark set 0x5"]),
    ("two fields of a set", ["add set ip t s { type ipv4_addr . inet_service; elements = { 192.0.2.9 . 8080 } }",
                             "add rule ip t out ip daddr . udp dport @s meta mark set 0x5"]),
    ("translates", ["add chain ip t nat { type nat hook output priority -100; }",
                    "add rule ip t nat udp dport 8080 dnat to 198.51.100.9"]),
    ("rejects", ["add rule ip t out udp dport 8080 reject"]),
    ("a policy", ["add chain ip t last { type filter hook output priority 10; policy drop; }",
                  "add rule ip t last udp dport 8081 accept"]),
    ("behind the route", ["add chain ip t post { type filter hook postrouting priority 0; }",
                          'add rule ip t post oifname "tun" udp dport 8080 drop']),
]  # fmt: skip


@pytest.mark.parametrize(("what", "lines"), FILTERS, ids=[case[0] for case in FILTERS])
def test_packet_filters_against_a_capture(what, lines):
    """A user's packet is sent for real; where it is seen to leave is where the map says."""

    def act():
        make_devices()
        ip([
            "route add default dev tun table 100", "rule add priority 100 table 100", "rule add fwmark 0x5 priority 50 table 254",
            "route add default via 192.168.1.9 dev out", "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            "neigh replace 192.0.2.9 lladdr 02:00:00:00:00:02 dev tun nud permanent",
            "neigh replace 198.51.100.9 lladdr 02:00:00:00:00:03 dev tun nud permanent",
            "rule add to 198.51.100.9 priority 40 table 254",
        ])  # fmt: skip
        head = ["add table ip t", "add chain ip t out { type route hook output priority mangle; }"]
        nft(*head, *lines)
        with Netlink() as netlink:
            facts = read_routing(netlink, 4)
        ways = derive(facts, read_filters(4, facts.devices))
        assert ways.undecided == ()
        expected = devices_of(ways, facts.devices, **{USER: NOBODY, BOUND: 0, MARK: 0}) - {"lo"}
        seen = sent_by(NOBODY)
        assert seen == expected, (what, seen, expected)

    in_a_network_of_its_own(act)


def sent_by(user):
    """The devices by which a user's datagram is seen to leave: by packet sockets at each of them."""
    captures = {}
    for name in ("out", "tun", "third"):
        capture = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
        capture.bind((name, 3))
        captures[capture] = name
    code = (
        "import os,socket\n"
        f"os.setuid({user})\n"
        "c=socket.socket(socket.AF_INET,socket.SOCK_DGRAM)\n"
        "try: c.sendto(b'a word to find',('192.0.2.9',8080))\nexcept OSError: pass\n"
    )
    subprocess.run([sys.executable, "-c", code], check=True)
    seen, until = set(), time.monotonic() + 0.3
    while (left := until - time.monotonic()) > 0:
        for capture in select.select(list(captures), [], [], left)[0]:
            frame, origin = capture.recvfrom(4096)
            if origin[2] == socket.PACKET_OUTGOING and b"a word to find" in frame:
                seen.add(captures[capture])
    return seen


def test_what_is_not_looked_at_is_named():
    def act():
        make_devices()
        nft("add table inet t", "add chain inet t out { type filter hook output priority 0; }")
        with Netlink() as netlink:
            devices = {link.number: link.name for link in netlink.links()}
        assert list(other_deciders(devices)) == []
        ip([])
        subprocess.run(["tc", "qdisc", "add", "dev", "tun", "clsact"], check=True)
        assert [word for word in other_deciders(devices) if "tun" in word]

    in_a_network_of_its_own(act)


def test_a_dormant_table_does_nothing():
    def act():
        make_devices()
        nft("table ip t { flags dormant; chain out { type filter hook output priority 0; policy drop; }; }")
        with Netlink() as netlink:
            facts = read_routing(netlink, 4)
        assert read_filters(4, facts.devices).chains == {}

    in_a_network_of_its_own(act)


def test_bound_and_marked_sockets():
    """With their processes; those of the tunnels' own mark and of ignored devices are left out."""

    def act():
        make_devices()
        kept = []
        for option, value in (
            (25, b"tun"),
            (36, (77).to_bytes(4, sys.byteorder)),
            (36, (99).to_bytes(4, sys.byteorder)),
        ):
            channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            channel.setsockopt(socket.SOL_SOCKET, option, value)
            channel.bind(("0.0.0.0", 0))
            kept.append(channel)
        with Netlink() as netlink:
            devices = {link.number: link.name for link in netlink.links()}
        rows = bound_sockets(devices, 99, ["lo"])
        assert {(row.device, row.mark) for row in rows} == {("tun", 0), ("", 77)}
        assert all(f"({os.getpid()})" in row.process for row in rows)
        assert [row.mark for row in bound_sockets(devices, 99, ["lo", "tun"])] == [77]

    in_a_network_of_its_own(act)


def test_without_rights_it_says_so():
    def act():
        make_devices()
        os.setuid(65534)
        seen, _ = look_at_ways([], {4: [], 6: []})
        assert any("only root" in reason for reason in seen.undecided) and not seen.is_decided

    in_a_network_of_its_own(act)
