"""The packet watch: what nothing explains is seen, with its process, packet for packet as another capture sees it."""

from __future__ import annotations

import os
import socket
import struct
import subprocess
import sys
import time
from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from host.random_routing import ip, make_devices
from support import in_a_network_of_its_own
from zesty_burrow.core.ways_out.beside import Allowed, by_ports, neighbours, to
from zesty_burrow.core.ways_out.capture_filter import OwnPort, WatchedPackets, capture_filter
from zesty_burrow.core.ways_out.packet import explanation, read_frame
from zesty_burrow.host.guard.plan import MARK
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.packet_watch.outage import Outage
from zesty_burrow.host.packet_watch.reserve import attach, reserve_packet_sockets
from zesty_burrow.host.packet_watch.watch import PacketWatch, WatchedDevice, write_capture

GATEWAY = "198.51.100.18"
ALLOWED = {
    4: (
        Allowed("tunnel", "its own", ((to(ip_address(GATEWAY)), *by_ports(17, 4500)),)),
        Allowed("local", "the local network", ((to(ip_network("192.168.1.0/24")),),)),
        Allowed("dhcp", "DHCP", (by_ports(17, 67, 68),)),
        Allowed("link", "groups", ((to(ip_network("224.0.0.0/4")),),)),
    ),
    6: (Allowed("link", "groups", ((to(ip_network("ff00::/8")),),)), neighbours([ip_network("2001:db8:f1::/64")])),
}
EVERYTHING = (ip_network("0.0.0.0/0"), ip_network("::/0"))
WATCHED = WatchedPackets(EVERYTHING, ALLOWED, (OwnPort(17, 5000),))


def frame4(destination, protocol=17, source_port=5000, port=4500, *, fragment=0, options=b"", tag=b""):
    words = 5 + len(options) // 4
    transport = struct.pack(">HHHH", source_port, port, 8, 0)
    head = struct.pack(
        ">BBHHHBBH4s4s", 0x40 | words, 0, 4 * words + 8, 1, fragment, 64, protocol, 0, socket.inet_aton("192.168.1.2"),
        socket.inet_aton(destination),
    )  # fmt: skip
    return b"\2" * 6 + bytes(6) + tag + b"\x08\x00" + head + options + transport


def frame6(destination, following=17, *, source_port=5000, port=4500, extra=b""):
    transport = struct.pack(">HHHH", source_port, port, 8, 0)
    head = struct.pack(
        ">IHBB16s16s", 6 << 28, len(extra) + 8, following, 64, socket.inet_pton(socket.AF_INET6, "2001:db8:f1::2"),
        socket.inet_pton(socket.AF_INET6, destination),
    )  # fmt: skip
    return b"\2" * 6 + bytes(6) + b"\x86\xdd" + head + extra + transport


CASES = [
    ("the tunnel's own", frame4(GATEWAY), "tunnel"),
    ("the tunnel's own, with options", frame4(GATEWAY, options=b"\1\1\1\1"), "tunnel"),
    ("a later piece of the tunnel's own", frame4(GATEWAY, fragment=0x10), "tunnel"),
    ("another program to the gateway's port", frame4(GATEWAY, source_port=5001), ""),
    ("the tunnel's port to another port", frame4(GATEWAY, port=4501), ""),
    ("another protocol to the gateway", frame4(GATEWAY, protocol=1), ""),
    ("the local network", frame4("192.168.1.77"), "local"),
    ("another network", frame4("192.168.2.77"), ""),
    ("DHCP", frame4("255.255.255.255", source_port=68, port=67), "dhcp"),
    ("DHCP's port alone", frame4("203.0.113.1", source_port=69, port=67), ""),
    ("a group", frame4("239.255.255.250"), "link"),
    ("elsewhere", frame4("203.0.113.9"), ""),
    ("with a VLAN tag", frame4("203.0.113.9", tag=b"\x81\x00\x00\x07"), ""),
    ("IPv6", frame6("2001:db8:b5::1"), ""),
    ("IPv6, a group", frame6("ff05::1"), "link"),
    ("IPv6, neighbour discovery", frame6("2001:db8:f1::9", 58), "neighbours"),
    ("IPv6, UDP to a neighbour", frame6("2001:db8:f1::9"), ""),
    ("IPv6 behind options", frame6("2001:db8:b5::1", 0, extra=b"\x11\0\1\4\0\0\0\0"), ""),
]


@pytest.mark.parametrize(("what", "frame", "name"), CASES, ids=[case[0] for case in CASES])
def test_explanations(what, frame, name):
    packet = read_frame(frame, is_ethernet=True)
    assert packet is not None and explanation(packet, WATCHED, 2) == name, what


def test_what_belongs_in_no_tunnel_is_elsewhere():
    office = WatchedPackets((ip_network("10.20.0.0/16"),), {4: (), 6: ()})
    assert explanation(read_frame(frame4("203.0.113.9"), is_ethernet=True), office, 2) == "elsewhere"
    assert explanation(read_frame(frame4("10.20.3.4"), is_ethernet=True), office, 2) == ""


@given(st.binary(max_size=120), st.booleans())
def test_a_strangers_octets(octets, is_ethernet):
    """Any octets give a packet or none."""
    packet = read_frame(octets, is_ethernet=is_ethernet)
    if packet is not None:
        explanation(packet, WATCHED, 2)
        assert packet.endpoint(remote=True)


def kernel_passes(frames):
    """Which frames a packet socket with the filter gets, sent by another one: what the kernel makes of the program."""
    number = socket.if_nametoindex("out")
    program = capture_filter(WATCHED, number, is_ethernet=True)
    capture = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, 0)
    attach(capture, program)
    capture.bind(("out", 3))
    capture.settimeout(0.2)
    sender = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
    sender.bind(("out", 0))
    seen = []
    for frame in frames:
        sender.send(frame)
    while True:
        try:
            got, origin = capture.recvfrom(4096)
        except TimeoutError:
            return seen
        if origin[2] == socket.PACKET_OUTGOING:
            seen.append(got)


def test_the_kernels_filter_passes_what_nothing_explains():
    """Exactly the frames of the table without an explanation; pieces of IPv6 may come as well, as they are looked at again."""

    def act():
        make_devices()
        time.sleep(0.3)
        wanted = [frame for _, frame, name in CASES if not name]
        got = kernel_passes([frame for _, frame, _ in CASES])
        assert sorted(wanted) == sorted(frame for frame in got if frame in {one for _, one, _ in CASES})

    in_a_network_of_its_own(act)


def watch_while(act, watched=WATCHED, devices=("out",)):
    with Netlink() as netlink:
        known = [WatchedDevice(netlink.index(name), name, True) for name in devices]
    watch = PacketWatch(watched, known)
    watch.open()
    try:
        act(watch)
        watch.wait(0.3)
        return watch.result(), watch.kept
    finally:
        watch.close()


def test_a_sender_with_its_process(tmp_path):
    """Addresses, ports, how many, and the process; another capture has the same packets, byte for byte."""

    def act():
        make_devices()
        ip(
            [
                "route add default via 192.168.1.9 dev out",
                "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            ]
        )
        other = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
        other.bind(("out", 3))
        channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        channel.bind(("192.168.1.2", 6000))

        def send(_):
            for _ in range(25):
                channel.sendto(b"in the clear", ("203.0.113.9", 9))
            child = subprocess.Popen(["sleep", "9"])
            child.kill()
            child.wait()

        seen, kept = watch_while(send)
        (row,) = seen.unexplained
        assert (row.protocol, row.source, row.destination) == ("UDP", "192.168.1.2:6000", "203.0.113.9:9")
        assert row.packets == 25 == seen.packets and seen.lost == 0 and not seen.blind
        # This process itself is the watch; a sender that is the watch is not told.
        assert row.process == ""
        other.setblocking(False)
        frames = []
        while True:
            try:
                frame, origin = other.recvfrom(4096)
            except BlockingIOError:
                break
            if origin[2] == socket.PACKET_OUTGOING and b"in the clear" in frame:
                frames.append(frame)
        assert [one.frame for one in kept] == frames
        path = tmp_path / "seen.pcap"
        write_capture(path, kept)
        shown = subprocess.run(
            ["tshark", "-r", str(path), "-Y", "udp.port==6000"], capture_output=True, text=True
        ).stdout
        assert len(shown.splitlines()) == 25

    in_a_network_of_its_own(act)


SENDER = """
import socket, time
channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
print("ready", flush=True)
while True:
    channel.sendto(b"x", ("203.0.113.9", 9))
    time.sleep(0.02)
"""


def test_another_process_is_named():
    def act():
        make_devices()
        ip(
            [
                "route add default via 192.168.1.9 dev out",
                "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            ]
        )
        child = subprocess.Popen([sys.executable, "-c", SENDER], stdout=subprocess.PIPE)
        try:
            assert child.stdout.readline()
            seen, _ = watch_while(lambda watch: watch.wait(1.5))
        finally:
            child.kill()
            child.communicate()
        assert f"({child.pid})" in seen.unexplained[0].process

    in_a_network_of_its_own(act)


def test_what_the_tunnels_open_meanwhile_is_explained():
    """A look at the tunnels as they are now: what was known before stays known."""

    def act():
        make_devices()
        ip(
            [
                "route add default via 192.168.1.9 dev out",
                "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            ]
        )
        fresh = WatchedPackets(
            EVERYTHING, {4: (Allowed("left out", "a network", ((to(ip_network("203.0.113.0/24")),),)),), 6: ()}
        )
        with Netlink() as netlink:
            device = WatchedDevice(netlink.index("out"), "out", True)
        watch = PacketWatch(WATCHED, [device], lambda: fresh)
        watch.open()
        channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        channel.sendto(b"x", ("203.0.113.9", 9))
        channel.sendto(b"x", ("192.168.1.77", 9))
        channel.sendto(b"x", ("192.0.2.9", 9))
        watch.wait(0.3)
        assert {row.destination for row in watch.result().unexplained} == {"192.0.2.9:9"}
        watch.close()

    in_a_network_of_its_own(act)


def test_without_rights():
    def act():
        make_devices()
        with Netlink() as netlink:
            device = WatchedDevice(netlink.index("out"), "out", True)
        os.setuid(65534)
        with pytest.raises(Exception, match="cannot be watched"):
            PacketWatch(WATCHED, [device]).open()

    in_a_network_of_its_own(act)


def test_an_outage_goes_with_its_process():
    def act():
        with Outage([ip_address(GATEWAY), ip_address("2001:db8::9")]):
            shown = subprocess.run(["nft", "list", "ruleset"], capture_output=True, text=True).stdout
            assert f"ip saddr {GATEWAY} drop" in shown and "ip6 saddr 2001:db8::9 drop" in shown
        assert subprocess.run(["nft", "list", "tables"], capture_output=True, text=True).stdout == ""

    in_a_network_of_its_own(act)


def test_reserved_sockets_serve_again_and_again():
    """A process that has given up the right to make packet sockets watches with those that it has made before."""

    def act():
        make_devices()
        ip(
            [
                "route add default via 192.168.1.9 dev out",
                "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            ]
        )
        channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        with Netlink() as netlink:
            device = WatchedDevice(netlink.index("out"), "out", True)
        reserve_packet_sockets()
        os.setuid(65534)
        for _ in range(40):
            watch = PacketWatch(WATCHED, [device])
            watch.open()
            channel.sendto(b"x", ("203.0.113.9", 9))
            watch.wait(0.01)
            assert watch.result().packets == 1
            watch.close()

    in_a_network_of_its_own(act)


def test_packets_with_the_tunnels_mark():
    """To the gateway's port, and questions for names, also from sockets that are closed already; others are seen."""

    def act():
        make_devices()
        ip(
            [
                "route add default via 192.168.1.9 dev out",
                "neigh replace 192.168.1.9 lladdr 02:00:00:00:00:01 dev out nud permanent",
            ]
        )

        def send(_):
            for mark, target in ((MARK, (GATEWAY, 4500)), (MARK, ("192.0.2.53", 53)), (MARK, ("192.0.2.53", 54)),
                                 (0, (GATEWAY, 4500)), (0, ("192.0.2.53", 53)), (7, (GATEWAY, 4500))):  # fmt: skip
                with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
                    channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, mark)
                    channel.sendto(b"x", target)

        seen, _ = watch_while(send)
        assert sorted((row.destination, row.packets) for row in seen.unexplained) == [
            ("192.0.2.53:53", 1), ("192.0.2.53:54", 1), (f"{GATEWAY}:4500", 1), (f"{GATEWAY}:4500", 1),
        ]  # fmt: skip

    in_a_network_of_its_own(act)
