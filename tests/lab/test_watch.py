"""What frames on a wire are, with scapy as judge of the octets; and the look at the workstation's wire."""

from __future__ import annotations

import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.dhcp import BOOTP, DHCP
from scapy.layers.dhcp6 import DHCP6_Solicit
from scapy.layers.dns import DNS, DNSQR
from scapy.layers.inet import ICMP, IP, TCP, UDP
from scapy.layers.inet6 import ICMPv6EchoRequest, ICMPv6MLReport2, ICMPv6ND_NS, IPv6, IPv6ExtHdrHopByHop
from scapy.layers.l2 import ARP, Ether
from scapy.packet import Raw

from zesty_burrow.lab import story
from zesty_burrow.lab.wire import frames
from zesty_burrow.lab.wire.frames import describe_frame

FAR4, FAR6 = "203.0.113.10", "2001:db8:b5::10"
QUESTION = DNS(rd=1, qd=DNSQR(qname="Files.office.example"))
FRAMES = [
    (ARP(), frames.NEIGHBOURS, ""),
    (IPv6(dst="ff02::1:ff00:1") / ICMPv6ND_NS(tgt="2001:db8::1"), frames.NEIGHBOURS, ""),
    (IPv6(dst="ff02::16") / IPv6ExtHdrHopByHop() / ICMPv6MLReport2(), frames.NEIGHBOURS, ""),
    (IP(dst="255.255.255.255") / UDP(sport=68, dport=67) / BOOTP() / DHCP(), frames.DHCP, ""),
    (IPv6(dst="ff02::1:2") / UDP(sport=546, dport=547) / DHCP6_Solicit(), frames.DHCP, ""),
    (IP(dst=FAR4) / UDP(sport=40000, dport=4500) / Raw(b"x"), frames.TUNNEL, f"to {FAR4} port 4500"),
    (IPv6(dst=FAR6) / UDP(sport=500, dport=500) / Raw(b"x"), frames.TUNNEL, f"to {FAR6} port 500"),
    (IP(dst=FAR4) / UDP(sport=4000, dport=53) / QUESTION, frames.NAMES, f"files.office.example, of {FAR4}"),
    (IPv6(dst=FAR6) / UDP(sport=4000, dport=53) / QUESTION, frames.NAMES, f"files.office.example, of {FAR6}"),
    (IP(dst=FAR4) / TCP(sport=4000, dport=853), frames.NAMES, f"TCP port 853, of {FAR4}"),
    (IP(dst=FAR4) / TCP(sport=4000, dport=443), frames.OTHERS, f"TCP to {FAR4} port 443"),
    (IP(dst=FAR4, frag=100) / UDP(sport=4000, dport=4500), frames.OTHERS, f"UDP to {FAR4}"),
    (IP(dst=FAR4, options=b"\1\1\1\0") / UDP(sport=1, dport=9), frames.OTHERS, f"UDP to {FAR4} port 9"),
    (IP(dst=FAR4) / ICMP(), frames.OTHERS, f"ICMP to {FAR4}"),
    (IPv6(dst=FAR6) / ICMPv6EchoRequest(), frames.OTHERS, f"ICMPv6 to {FAR6}"),
    (IP(dst=FAR4, proto=50) / Raw(b"12345678"), frames.OTHERS, f"protocol 50 to {FAR4}"),
]


@pytest.mark.parametrize(("packet", "kind", "what"), FRAMES)
def test_what_a_frame_is(packet, kind, what):
    """Kind and particulars."""
    assert describe_frame((Ether(src="02:00:00:00:00:01", dst="02:00:00:00:00:02") / packet).build()) == (kind, what)


@given(st.binary(max_size=120), st.sampled_from([0x0800, 0x86DD, 0x0806, 0x88CC]))
def test_any_octets(data, kind):
    """Whatever a wire brings is something."""
    assert describe_frame(bytes(12) + kind.to_bytes(2) + data)[0] in frames.KINDS


SEND = """
import socket, time
channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
end = time.monotonic() + 3
while time.monotonic() < end:
    try:
        channel.sendto(b"x", (%r, 9))
    except OSError:
        pass
    time.sleep(0.05)
"""


@pytest.mark.lab
def test_on_the_wire(lab):
    """Without a tunnel what is sent is seen; under one only the tunnel's own is."""
    sending = lab.start("heron", sys.executable, "-c", SEND % story.OBSERVATORY4)
    rows = lab.run("lab", "watch", "--seconds", "1.5", "--json", check=0).json["rows"]
    assert f"UDP to {story.OBSERVATORY4} port 9" in [row["what"] for row in rows if row["kind"] == frames.OTHERS]
    sending.communicate(timeout=20)
    lab.heron("connect", "lisbon", "--detach", check=0)
    sending = lab.start("heron", sys.executable, "-c", SEND % story.OBSERVATORY4)
    shown = lab.run("lab", "watch", "--seconds", "1.5", check=0).out
    sending.communicate(timeout=20)
    gateway = story.PLACE_BY_NAME["lisbon"].outer
    assert f"{frames.TUNNEL} to {gateway} port 4500" in " ".join(shown.split())
    assert frames.OTHERS not in shown and frames.NAMES not in shown
    assert lab.run("lab", "watch", "--seconds", "0").code == 2
