"""Headers of inner packets in a tunnel: congestion marks, segment size, and packets that are too long."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import ICMP, IP, TCP, UDP, IPOption_NOP, IPOption_RR, defragment
from scapy.layers.inet6 import ICMPv6PacketTooBig, IPv6
from scapy.packet import Raw

from zesty_burrow.core.packets import encapsulation, too_big
from zesty_burrow.core.packets.checksum import checksum, word_sum

NOT, ONE, ZERO, CE = 0, 1, 2, 3
DROP = None
TABLE = {
    (NOT, NOT): NOT, (NOT, ZERO): NOT, (NOT, ONE): NOT, (NOT, CE): DROP,
    (ZERO, NOT): ZERO, (ZERO, ZERO): ZERO, (ZERO, ONE): ONE, (ZERO, CE): CE,
    (ONE, NOT): ONE, (ONE, ZERO): ONE, (ONE, ONE): ONE, (ONE, CE): CE,
    (CE, NOT): CE, (CE, ZERO): CE, (CE, ONE): CE, (CE, CE): CE,
}  # fmt: skip
"""RFC 6040 §4.2, figure 4: inner and outer field as they arrive, and the inner one as it goes on."""


@pytest.mark.parametrize("version", [4, 6])
@pytest.mark.parametrize(("inner", "outer"), TABLE)
def test_congestion_marks_of_the_outer_header(version, inner, outer):
    """The table of RFC 6040, with a DSCP beside it that must not change, and an IPv4 sum that stays right."""
    dscp = 0x2E << 2
    head = IP(tos=dscp | inner, options=[IPOption_NOP()] * 4) if version == 4 else IPv6(tc=dscp | inner, fl=0xABCDE)
    packet = bytearray(bytes(head / UDP(sport=1, dport=2) / Raw(b"x" * 9)))
    kept = encapsulation.take_congestion(memoryview(packet), 0, len(packet), 0x48 << 2 & 0xFC | outer)
    expected = TABLE[inner, outer]
    assert kept == (expected is not DROP)
    if kept:
        read = IP(bytes(packet)) if version == 4 else IPv6(bytes(packet))
        assert (read.tos if version == 4 else read.tc) == dscp | expected
        assert version == 6 or checksum(packet[: read.ihl * 4]) == 0
        assert version == 4 or read.fl == 0xABCDE


@pytest.mark.parametrize(("inner", "dscp", "outer"), [(0xBB, 0, 3), (0xB8, None, 0xB8), (0x02, 46, 0xBA), (0, 63, 252)])
def test_the_outer_class(inner, dscp, outer):
    """RFC 6040 §4.1: ECN is copied, whatever becomes of the DSCP."""
    assert encapsulation.outer_class(inner, dscp) == outer
    head = bytes(IPv6(tc=inner))
    assert encapsulation.traffic_class(head) == inner == encapsulation.traffic_class(bytes(IP(tos=inner)))


@settings(max_examples=80, deadline=None)
@given(
    st.sampled_from([4, 6]),
    st.integers(0, 0xFFFF),
    st.integers(1280, 1500),
    st.lists(st.sampled_from([("NOP", None), ("SAckOK", b""), ("WScale", 7), ("Timestamp", (1, 2))]), max_size=3),
    st.sampled_from(["S", "SA"]),
)
def test_the_segment_size_of_a_syn(version, asked, mtu, before, flags):
    """Lowered to what fits, never raised, wherever the option stands; the checksum agrees with the judge's."""
    head = IP(dst="203.0.113.10") if version == 4 else IPv6(dst="2001:db8::1")
    packet = bytearray(bytes(head / TCP(flags=flags, options=[*before, ("MSS", asked)])))
    most = mtu - (40 if version == 4 else 60)
    changed = encapsulation.clamp_tcp_mss(memoryview(packet), 0, len(packet), mtu)
    read = (IP if version == 4 else IPv6)(bytes(packet))
    assert changed == (asked > most)
    assert dict(read[TCP].options)["MSS"] == min(asked, most)
    told = read[TCP].chksum
    del read[TCP].chksum
    assert (IP if version == 4 else IPv6)(bytes(read))[TCP].chksum == told


@pytest.mark.parametrize(
    "packet",
    [
        IP() / TCP(flags="A", options=[("MSS", 9000)]),
        IP() / TCP(flags="S"),
        IP(frag=1) / TCP(flags="S", options=[("MSS", 9000)]),
        IP() / UDP() / Raw(bytes(30)),
        IPv6() / UDP() / Raw(bytes(30)),
    ],
)
def test_what_has_no_segment_size_stays(packet):
    octets = bytearray(bytes(packet))
    assert not encapsulation.clamp_tcp_mss(memoryview(octets), 0, len(octets), 1280)
    assert octets == bytes(packet)


@given(st.binary(min_size=1, max_size=90))
def test_a_strangers_packet_is_never_read_beyond_its_end(data):
    octets = bytearray(data)
    encapsulation.clamp_tcp_mss(memoryview(octets), 0, len(octets), 1280)
    assert len(octets) == len(data)
    too_big.too_big(data, 1280)
    if too_big.may_be_cut(data):
        assert all(len(part) <= 576 for part in too_big.cut(data, 576))


@given(st.binary(max_size=99))
def test_the_sum_is_the_plain_one(data):
    """RFC 1071 §1, word by word."""
    padded, total = data + bytes(len(data) & 1), 0
    for at in range(0, len(padded), 2):
        total += int.from_bytes(padded[at : at + 2])
        total = (total & 0xFFFF) + (total >> 16)
    assert word_sum(data) == total


def test_the_message_in_ipv4():
    """RFC 1191 §4: type 3, code 4, the MTU, and the beginning of the packet; believed by its sender."""
    packet = bytes(
        IP(src="10.66.1.10", dst="203.0.113.10", flags="DF", tos=4) / UDP(sport=5, dport=6) / Raw(b"z" * 1400)
    )
    read = IP(too_big.too_big(packet, 1300))
    assert (read.src, read.dst, read[ICMP].type, read[ICMP].code) == ("203.0.113.10", "10.66.1.10", 3, 4)
    assert read[ICMP].nexthopmtu == 1300 and len(read) <= 576
    assert too_big.too_big(packet, 1300)[28:] == packet[:548]
    told, inner = read[ICMP].chksum, read.chksum
    del read[ICMP].chksum, read.chksum
    again = IP(bytes(read))
    assert (again[ICMP].chksum, again.chksum) == (told, inner)


def test_the_message_in_ipv6():
    """RFC 4443 §3.2; never an MTU below 1280 (RFC 8200 §5)."""
    packet = bytes(IPv6(src="fd66:1::a", dst="2001:db8::1") / UDP(sport=5, dport=6) / Raw(b"z" * 1400))
    read = IPv6(too_big.too_big(packet, 1200))
    assert (read.src, read.dst, read[ICMPv6PacketTooBig].mtu) == ("2001:db8::1", "fd66:1::a", 1280)
    assert len(read) == 1280
    told = read[ICMPv6PacketTooBig].cksum
    del read[ICMPv6PacketTooBig].cksum
    assert IPv6(bytes(read))[ICMPv6PacketTooBig].cksum == told


@pytest.mark.parametrize(
    "packet",
    [
        IP(src="10.0.0.1", frag=7) / Raw(bytes(1400)),
        IP(src="10.0.0.1") / ICMP(type=3, code=4) / Raw(bytes(1400)),
        IP(src="0.0.0.0") / UDP() / Raw(bytes(1400)),
        IP(src="10.0.0.1", dst="224.0.0.5") / UDP() / Raw(bytes(1400)),
        IPv6(src="::") / UDP() / Raw(bytes(1400)),
        IPv6(src="fd66::1", dst="ff02::1") / UDP() / Raw(bytes(1400)),
        IPv6(src="fd66::1") / ICMPv6PacketTooBig() / Raw(bytes(1400)),
    ],
)
def test_where_no_message_is_due(packet):
    """RFC 1122 §3.2.2, RFC 4443 §2.4."""
    assert too_big.too_big(bytes(packet), 1300) is None


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 3000), st.integers(576, 1500), st.sampled_from([0, 100]), st.booleans(), st.booleans())
def test_fragments_make_up_the_packet_again(length, mtu, offset, more, options):
    """RFC 791 §3.2, put together by the judge; copied options are in every fragment, the others in the first."""
    extra = [IPOption_RR(routers=["0.0.0.0"] * 2)] if options else []
    whole = IP(
        src="10.66.1.10", dst="203.0.113.10", id=77, frag=offset, flags="MF" if more else 0, options=extra, ttl=9
    )
    packet = bytes(whole / Raw(bytes(index & 0xFF for index in range(length & ~7 if more else length))))
    parts = [IP(part) for part in too_big.cut(packet, mtu)]
    assert all(len(part) <= mtu and checksum(bytes(part)[: part.ihl * 4]) == 0 for part in parts)
    assert b"".join(bytes(part.payload) for part in parts) == bytes(IP(packet).payload)
    place = offset
    for index, part in enumerate(parts):
        assert part.frag == place and (part.ttl, part.id) == (9, 77)
        assert bool(part.flags & 1) == (more or index < len(parts) - 1)
        assert bool(part.options) == (options and index == 0)
        place += len(part.payload) // 8
    if not offset and not more and len(parts) > 1:
        (again,) = defragment(parts)
        assert bytes(again.payload) == bytes(IP(packet).payload)


def test_an_option_that_is_copied_is_in_every_fragment():
    packet = bytes(IP(options=[b"\x94\x04\0\0", b"\x07\x07\x04\0\0\0\0", b"\0"]) / Raw(bytes(1300)))
    first, *others = [IP(part) for part in too_big.cut(packet, 600)]
    assert first.ihl == 8 and others and all(bytes(part)[20:24] == b"\x94\x04\0\0" and part.ihl == 6 for part in others)
