"""L2TP over IPsec by both paths: the same packets, the same counts; what is no packet comes to the session whole."""

from __future__ import annotations

import os

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, UDP
from scapy.layers.inet6 import ICMPv6ND_RA, IPv6
from scapy.layers.l2tp import L2TP
from scapy.layers.ppp import PPP
from scapy.packet import Raw

from carrier.ends import ALL, HERE, ONLY_HERE, PATHS, THERE, Ends
from carrier.test_both_paths import datagram
from carrier.test_same_result import arrivals, counted, do_mischief, mischief, outbound, steps
from core.test_segmentation import FIELDS, as_the_kernel_splits, octets_for, segments_of
from zesty_burrow.carrier.data_path.options import PathOptions
from zesty_burrow.core.esp.channel import SaPair
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.protocols.l2tp_ipsec.channel import L2tpChannel
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import L2tpConnection

TUNNEL, SESSION, PEER_TUNNEL, PEER_SESSION = 0x1234, 0x0102, 0xFEDC, 0xA0B0
KINDS = {4: 0x0021, 6: 0x0057}


class Opening:
    """The gateway's end, which reads with scapy what is within ESP."""

    def __init__(self, sa):
        self.sa, self.state = sa, sa.state

    def open(self, data):
        inner = self.sa.open(data)
        whole = UDP(inner)
        assert (whole.sport, whole.dport, whole.len, whole.chksum) == (1701, 1701, len(inner), 0)
        message = L2TP(bytes(whole.payload))
        assert (message.hdr, message.version, message.tunnel_id, message.session_id) == (
            0,
            2,
            PEER_TUNNEL,
            PEER_SESSION,
        )
        frame = bytes(message.payload)
        assert frame[:2] == b"\xff\x03" and PPP(frame).proto == KINDS[frame[4] >> 4]
        return frame[4:]


class Sealing:
    """The gateway's end, which makes with scapy what is within ESP; ``message`` makes anything."""

    def __init__(self, sa):
        self.sa, self.state = sa, sa.state

    def seal(self, packet):
        return self.frame(b"\xff\x03" + KINDS.get(packet[0] >> 4 if packet else 0, 0x0021).to_bytes(2) + packet)

    def frame(self, frame):
        return self.message(bytes(L2TP(hdr=[], version=2, tunnel_id=TUNNEL, session_id=SESSION)) + frame)

    def message(self, message, **ports):
        return self.sa.seal(bytes(UDP(**{"sport": 1701, "dport": 1701, "chksum": 0, **ports}) / Raw(message)))


class L2tpEnds(Ends):
    """As the plain ones, with the headers of UDP, L2TP and PPP in between."""

    def __init__(self, by, options=None, *, local=ONLY_HERE, numbered=False):
        super().__init__(by, options, local=local)
        connection = L2tpConnection(os.urandom, "here", is_caller=True)
        connection.tunnel, connection.session = TUNNEL, SESSION
        connection.peer_tunnel, connection.peer_session = PEER_TUNNEL, PEER_SESSION
        connection.numbered = numbered
        spis = 0x81000007, 0x82000007
        pair = SaPair(
            OutboundSa(spis[0], self.make(), following=17), InboundSa(spis[1], self.make(), following=17), (), ()
        )
        self.path.remove(self.tunnel)
        self.channel = self.tunnel.channel = L2tpChannel(pair, connection)
        self.channel.open_for(local, ALL)
        self.opens = Opening(InboundSa(spis[0], self.make(), following=17))
        self.seals = Sealing(OutboundSa(spis[1], self.make(), following=17))
        self.path.add(self.tunnel)


@settings(max_examples=7)
@given(steps, st.booleans(), st.booleans())
def test_the_same_goes_out(script, everybody, clamp):
    """In the same order under the same numbers, with headers that another program reads."""
    found = []
    for way in PATHS:
        one = L2tpEnds(way, PathOptions(None, clamp), local=ALL if everybody else ONLY_HERE)
        one.tunnel.limit = 1380
        one.path.refresh()
        told = []
        for kind, count, seed, mark in script:
            packets = [outbound(kind, 30 + seed, seed + 7 * index * (mark > 2), mark % 3) for index in range(count)]
            told.append(one.out(*packets[: 60 if kind != "piece" else 9]))
        found.append((told, [packet for _, packet in one.read()], counted(one), one.opens.state.rejected))
        one.close()
    assert found[0] == found[1] and found[0][3] == 0


@settings(max_examples=15)
@given(steps, mischief, st.booleans())
def test_the_same_comes_in(flows, wrongs, everybody):
    """Forged, repeated, cut, too late, for somebody else: the same packets come through, and the same is counted."""
    found = []
    for way in PATHS:
        one = L2tpEnds(way, local=ALL if everybody else ONLY_HERE)
        sealed = do_mischief(one, arrivals(one, flows), wrongs)
        others, packets = [], []
        for begin in range(0, len(sealed), 40):
            left, read = one.come(sealed[begin : begin + 40])
            others += left
            packets += [packet for header, data in read for packet in as_the_kernel_splits(header, data)]
        window = one.channel.current.inbound.window
        seen = [window.check(number) for number in range(one.seals.state.sequence + 20)]
        found.append((packets, others, counted(one), seen, list(one.channel.messages), list(one.channel.l2tp.frames)))
        one.close()
    assert found[0] == found[1]


@pytest.mark.parametrize("by", PATHS)
def test_messages_among_packets(by):
    """Control messages, and frames that are no packets, go to the session in their order; nothing is taken twice."""
    one = L2tpEnds(by)
    control = bytes.fromhex("c802000c1234000000000001")
    advertisement = bytes(IPv6(src="fe80::1", dst="ff02::1", hlim=255) / ICMPv6ND_RA())
    packets = [datagram(200, THERE, HERE) for _ in range(3)]
    sealed = [
        one.seals.seal(packets[0]),
        one.seals.message(control),
        one.seals.seal(packets[1]),
        one.seals.frame(b"\xff\x03\xc0\x21" + bytes.fromhex("0905000812345678")),
        one.seals.seal(advertisement),
        one.seals.seal(packets[2]),
    ]
    others, came = one.come(sealed)
    assert others == []
    assert [packet for _, packet in came] == packets
    assert list(one.channel.messages) == [control]
    assert [frame[2:4] for frame in one.channel.l2tp.frames] == [b"\xc0\x21", b"\x00\x57"]
    assert one.channel.counters.rejected == 0
    # As often as they like: they came before.
    one.come(sealed)
    assert len(one.channel.messages) == 1
    assert one.channel.counters.rejected == len(sealed)
    one.close()


@pytest.mark.parametrize("by", PATHS)
@pytest.mark.parametrize(
    "spoil",
    [
        lambda one, packet: one.seals.message(bytes.fromhex("000212340103") + b"\xff\x03\0\x21" + packet),
        lambda one, packet: one.seals.message(bytes.fromhex("000212350102") + b"\xff\x03\0\x21" + packet),
        lambda one, packet: one.seals.frame(b"\xff\x03\0\x57" + packet),
        lambda one, packet: one.seals.message(b"", dport=1702),
        lambda one, packet: one.seals.frame(b""),
        lambda one, packet: one.seals.message(b"\x00"),
    ],
    ids=["another session", "another tunnel", "another kind", "another port", "no frame", "one octet"],
)
def test_what_is_no_packet_of_this_call(by, spoil):
    """Authentic, and still nothing for the device but what is in order; what follows it comes through."""
    one = L2tpEnds(by)
    packet = datagram(100, THERE, HERE)
    others, came = one.come([spoil(one, packet), one.seals.seal(packet)])
    assert others == []
    assert [found for _, found in came] == [packet]
    one.close()


@pytest.mark.parametrize("by", PATHS)
def test_shorter_headers_of_other_senders(by):
    """A length, an offset, protocols in one octet, no address: each is understood, by the path that knows it."""
    one = L2tpEnds(by)
    packet = datagram(100, THERE, HERE)
    forms = [
        bytes.fromhex("4002") + (8 + 4 + len(packet)).to_bytes(2) + bytes.fromhex("12340102ff030021") + packet,
        bytes.fromhex("0202123401020003aaaaaaff030021") + packet,
        bytes.fromhex("0002123401020021") + packet,
        bytes.fromhex("00021234010221") + packet,
    ]
    _, came = one.come([one.seals.message(form) for form in forms])
    assert [found for _, found in came] == [packet] * len(forms)
    one.close()


def test_packets_with_numbers_are_left_to_python():
    """RFC 2661 §5.4: the numbers count up, and what is older than one that came is dropped."""
    one = L2tpEnds("fast", numbered=True)
    packet = datagram(100, HERE, THERE)
    one.send(packet, packet)
    inner = [one.opens.sa.open(data)[8:] for data in one.sealed()]
    assert [message[:10].hex() for message in inner] == ["0802fedca0b000000000", "0802fedca0b000010000"]
    back = datagram(100, THERE, HERE)
    made = [
        one.seals.message(bytes.fromhex("080212340102") + number.to_bytes(2) + b"\0\0\xff\x03\0\x21" + back)
        for number in (5, 4, 6)
    ]
    _, came = one.come(made)
    assert len(came) == 2
    one.close()


def test_segments_are_joined_again():
    """What the gateway sends in many packets comes to the device in one piece, as with IKEv2."""
    one = L2tpEnds("fast", local=ALL)
    packets = segments_of({**FIELDS, "tcp": True}, octets_for(3, 9000), 900)
    _, came = one.come([one.seals.seal(packet) for packet in packets])
    assert len(came) == 1
    assert IP(came[0][1]).len == len(came[0][1])
    one.close()
