"""UDP in IP without an operating system, held against an independent packet library."""

from __future__ import annotations

from ipaddress import ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.layers.inet import ICMP, IP, UDP, IPOption_NOP
from scapy.layers.inet6 import IPv6, IPv6ExtHdrDestOpt, IPv6ExtHdrHopByHop
from scapy.packet import Raw

from zesty_burrow.core.packets.checksum import checksum
from zesty_burrow.core.packets.udp import UdpDatagram, build_udp, parse_udp_untrusted
from zesty_burrow.errors import Malformed

V4 = ip_address("10.66.1.10"), ip_address("203.0.113.10")
V6 = ip_address("fd66:1::a"), ip_address("2001:db8:b5::10")
PORTS = st.integers(0, 65535)


@given(st.sampled_from([V4, V6]), PORTS, PORTS, st.binary(max_size=1232))
def test_a_judge_reads_what_we_make(pair, source_port, port, payload):
    packet = build_udp(UdpDatagram(pair[0], source_port, pair[1], port, payload))
    judge = (IP if pair is V4 else IPv6)(packet)
    assert (judge.src, judge.dst) == (str(pair[0]), str(pair[1]))
    assert (judge[UDP].sport, judge[UDP].dport, bytes(judge[UDP].payload)) == (source_port, port, payload)
    told = judge[UDP].chksum
    del judge[UDP].chksum
    if pair is V4:
        del judge.chksum
    assert bytes(judge.__class__(bytes(judge))) == packet
    assert told != 0
    assert parse_udp_untrusted(packet) == UdpDatagram(pair[0], source_port, pair[1], port, payload)


@pytest.mark.parametrize(
    "packet",
    [
        IP(src="10.66.1.10", dst="203.0.113.10", options=[IPOption_NOP()] * 4) / UDP(sport=1, dport=2) / Raw(b"odd"),
        IP(src="10.66.1.10", dst="203.0.113.10") / UDP(sport=1, dport=2, chksum=0) / Raw(b"odd"),
        IPv6(src="fd66:1::a", dst="2001:db8:b5::10") / IPv6ExtHdrHopByHop() / UDP(sport=1, dport=2) / Raw(b"odd"),
        IPv6(src="fd66:1::a", dst="2001:db8:b5::10")
        / IPv6ExtHdrHopByHop()
        / IPv6ExtHdrDestOpt()
        / UDP(sport=1, dport=2)
        / Raw(b"odd"),
    ],
    ids=["options", "no-checksum", "hop-by-hop", "two-extensions"],
)
def test_we_read_what_a_judge_makes(packet):
    found = parse_udp_untrusted(bytes(packet))
    assert (found.source_port, found.destination_port, found.payload) == (1, 2, b"odd")
    padded = bytes(packet) + b"padding of a link layer"
    assert parse_udp_untrusted(padded) == found


GOOD4 = build_udp(UdpDatagram(*[V4[0], 53], *[V4[1], 4000], b"an answer"))
GOOD6 = build_udp(UdpDatagram(*[V6[0], 53], *[V6[1], 4000], b"an answer"))


@pytest.mark.parametrize("good", [GOOD4, GOOD6])
def test_every_changed_bit_is_noticed_or_harmless(good):
    """What a changed bit lets through differs in nothing but fields that no checksum covers."""
    expected = parse_udp_untrusted(good)
    for at in range(len(good)):
        for bit in range(8):
            changed = bytearray(good)
            changed[at] ^= 1 << bit
            try:
                found = parse_udp_untrusted(bytes(changed))
            except Malformed:
                continue
            assert found == expected, (at, bit)
            assert good is GOOD6, "an IPv4 header is covered whole"
            assert at in range(8)


@pytest.mark.parametrize("good", [GOOD4, GOOD6])
def test_cut_packets(good):
    for size in range(len(good)):
        with pytest.raises(Malformed):
            parse_udp_untrusted(good[:size])


def test_what_is_not_udp():
    with pytest.raises(Malformed, match="protocol 1"):
        parse_udp_untrusted(bytes(IP(src="10.66.1.10", dst="203.0.113.10") / ICMP()))
    with pytest.raises(Malformed, match="fragment"):
        parse_udp_untrusted(bytes(IP(src="10.66.1.10", dst="203.0.113.10", flags="MF") / UDP() / Raw(bytes(8))))
    with pytest.raises(Malformed, match="no checksum"):
        parse_udp_untrusted(GOOD6[:46] + b"\0\0" + GOOD6[48:])


@given(st.binary(max_size=120))
def test_strangers_octets(data):
    for head in (b"", b"\x45", b"\x60\0\0\0"):
        try:
            parse_udp_untrusted(head + data)
        except Malformed:
            continue


def test_a_checksum_from_its_rfc():
    """RFC 1071 §3: the words 0001 f203 f4f5 f6f7 sum to ddf2."""
    assert checksum(bytes.fromhex("0001f203f4f5f6f7")) == 0xFFFF - 0xDDF2
