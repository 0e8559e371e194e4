"""PPP at both ends: the automaton, sign-ins, addresses; lines that lose and reorder; octets by hand and arbitrary ones."""

from __future__ import annotations

import random
from ipaddress import IPv4Interface, IPv6Address, IPv6Interface, IPv6Network, ip_address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet6 import (
    ICMPv6ND_RA,
    ICMPv6ND_RS,
    ICMPv6NDOptPrefixInfo,
    ICMPv6NDOptRDNSS,
    IPv6,
)

from support import seeded
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp import router
from zesty_burrow.protocols.ppp.automaton import Automaton, AutomatonState, Options
from zesty_burrow.protocols.ppp.link import CalledConfig, CallerConfig, LinkOver, NetworkUp, PppLink, SignedIn
from zesty_burrow.protocols.ppp.packet import (
    Code,
    Number,
    Option,
    Packet,
    read_frame,
    read_options,
    read_packet,
    write_frame,
    write_options,
    write_packet,
)
from zesty_burrow.protocols.ppp.sign_in import METHOD, OPTION, chap_response, peer_for
from zesty_burrow.protocols.session import NetworkSettings

NAME, PASSWORD = "tidewrack_heron", "kelp-Forest_42"
INNER = NetworkSettings(
    (IPv4Interface("10.66.6.10/32"), IPv6Interface("2001:db8:66:6::a/64")),
    (ip_address("192.0.2.53"), ip_address("192.0.2.54"), ip_address("2001:db8::53")),
)


def link_pair(
    seed=1, method="ms-chap-v2", methods=("ms-chap-v2", "chap", "pap"), families=(4, 6), inner=INNER, password=PASSWORD
):
    own = NamePassword(NAME, Secret(password))
    caller = PppLink(CallerConfig(methods, own, families, 1400), seeded(seed))
    known = {NAME: PASSWORD}
    called = PppLink(
        CalledConfig(method, known.get, lambda account: inner, ip_address("10.66.6.1").packed, "far", 1400),
        seeded(seed + 1),
    )
    return caller, called


class Line:
    """Carries frames between two links, or loses, doubles and delays them."""

    def __init__(self, ends, seed=1, loss=0.0, doubling=0.0, jitter=0.0):
        self.ends, self.now, self.events = ends, 0.0, ([], [])
        self.chance, self.loss, self.doubling, self.jitter = random.Random(seed), loss, doubling, jitter
        self.flying, self.seen = [], []
        for one in ends:
            one.start(self.now)

    def run(self, seconds, stop=lambda line: False):
        end = self.now + seconds
        while self.now < end and not stop(self):
            for side, one in enumerate(self.ends):
                for frame in one.send():
                    self.seen.append((side, frame))
                    for _ in range(2 if self.chance.random() < self.doubling else 1):
                        if self.chance.random() >= self.loss:
                            self.flying.append((self.now + self.chance.random() * self.jitter, 1 - side, frame))
            due = sorted((one for one in self.flying if one[0] <= self.now), key=lambda one: one[0])
            self.flying = [one for one in self.flying if one[0] > self.now]
            for _, side, frame in due:
                self.ends[side].receive(frame, self.now)
            self.now += 0.02
            for one in self.ends:
                when = one.next_timer()
                if when is not None and when <= self.now:
                    one.handle_timer(self.now)
            for side, one in enumerate(self.ends):
                while (event := one.next_event()) is not None:
                    self.events[side].append(event)
        return self

    def up(self):
        return self.run(
            60, lambda line: all(any(isinstance(e, NetworkUp | LinkOver) for e in row) for row in line.events)
        )

    def of(self, kind, side=0):
        return next((one for one in self.events[side] if isinstance(one, kind)), None)


@pytest.mark.parametrize("method", list(OPTION))
@pytest.mark.parametrize("families", [(4,), (6,), (4, 6)])
def test_a_link_comes_up(method, families):
    """Each sign-in; each family that is wanted, and no other; the other end knows who it is."""
    line = Line(link_pair(method=method, families=families)).up()
    assert line.of(SignedIn).method == method
    found = line.of(NetworkUp).settings
    assert found.addresses == tuple(one for one in INNER.addresses if one.version in families)
    assert found.name_servers == tuple(one for one in INNER.name_servers if one.version in families)
    assert line.ends[1].account == NAME
    numbers = {read_frame(frame)[0] for _, frame in line.seen}
    assert ((Number.IPCP in numbers) == (4 in families) and (Number.IPV6CP in numbers) == (6 in families)) or len(
        families
    ) < 2


@pytest.mark.parametrize("seed", range(15))
def test_a_line_that_loses(seed):
    """A quarter lost, some twice, in any order: up all the same, with the same addresses at both ends."""
    line = Line(link_pair(seed), seed, loss=0.25, doubling=0.15, jitter=0.4).up()
    assert line.of(LinkOver) is None and line.of(LinkOver, 1) is None
    assert line.of(NetworkUp).settings.addresses[0] == INNER.addresses[0]


@pytest.mark.parametrize("method", list(OPTION))
def test_a_wrong_password(method):
    line = Line(link_pair(method=method, password="sea grass")).up()
    for side in (0, 1):
        assert line.of(LinkOver, side).sign_in
    assert "wrong" in line.of(LinkOver).reason
    assert all(b"sea grass" not in frame for _, frame in line.seen) == (method != "pap")


def test_a_gateway_that_does_not_know_the_password():
    """MS-CHAPv2 proves both sides: success with a wrong proof is no success."""
    own = NamePassword(NAME, Secret(PASSWORD))
    peer = peer_for("ms-chap-v2", own, seeded(1))
    challenge = Packet(1, 7, b"\x10" + bytes(16) + b"far")
    answer = peer.take(challenge)
    assert answer and peer.take(challenge) == answer
    with pytest.raises(Malformed, match="does not know the password"):
        peer.take(Packet(3, 7, b"S=" + b"0" * 40 + b" M=Welcome"))
    assert not peer.done and peer.key == b""


def test_chap_by_hand():
    """RFC 1994 §4.1: MD5 over identifier, secret and challenge."""
    import hashlib

    peer = peer_for("chap", NamePassword(NAME, Secret(PASSWORD)), seeded(1))
    answer = read_packet(peer.take(Packet(1, 9, b"\x04abcdfar")))
    assert (answer.code, answer.identifier) == (2, 9)
    assert answer.data == b"\x10" + hashlib.md5(b"\x09" + PASSWORD.encode() + b"abcd").digest() + NAME.encode()
    assert chap_response(9, PASSWORD.encode(), b"abcd") == answer.data[1:17]


def test_pap_by_hand():
    """RFC 1334 §2.2: lengths before name and password; asked again with another number."""
    peer = peer_for("pap", NamePassword(NAME, Secret(PASSWORD)), seeded(1))
    first, second = (read_packet(peer.start()) for _ in range(2))
    body = bytes([len(NAME)]) + NAME.encode() + bytes([len(PASSWORD)]) + PASSWORD.encode()
    assert (first.code, first.data) == (1, body) and second.identifier == first.identifier + 1
    peer.take(Packet(2, first.identifier, b"\0"))
    assert not peer.done
    peer.take(Packet(2, second.identifier, b"\0"))
    assert peer.done


def test_an_unwanted_sign_in():
    """Named in words; nothing of the password goes out."""
    line = Line(link_pair(method="pap", methods=("ms-chap-v2",))).up()
    assert "by pap, which is not allowed here" in line.of(LinkOver).reason
    assert line.of(LinkOver).sign_in
    assert not any(read_frame(frame)[0] == Number.PAP for _, frame in line.seen)


def test_a_peer_that_says_nothing():
    line = Line(link_pair(), loss=1.0).run(40)
    assert "does not answer" in line.of(LinkOver).reason
    assert 8 < sum(side == 0 for side, _ in line.seen) < 16


def test_a_line_that_leads_back():
    """RFC 1661 §6.4: the magic number tells that it is this side's own voice; it never comes up."""
    caller, _ = link_pair()
    caller.start(0.0)
    now = 0.0
    for _ in range(3000):
        for frame in caller.send():
            caller.receive(frame, now)
        now += 0.02
        if (when := caller.next_timer()) is not None and when <= now:
            caller.handle_timer(now)
    assert not caller.is_up


def test_echoes():
    """Answered with one's own number; a silent other end is given up after some of them."""
    line = Line(link_pair()).up()
    caller, called = line.ends
    caller.echo()
    line.run(1)
    replies = [
        read_packet(read_frame(frame)[1])
        for side, frame in line.seen
        if side == 1 and read_frame(frame)[0] == Number.LCP
    ]
    assert any(one.code == Code.ECHO_REPLY and one.data == called.options.magic for one in replies)
    line.loss = 1.0
    line.run(400)
    assert "not answered" in line.of(LinkOver).reason


def test_an_orderly_end():
    line = Line(link_pair()).up()
    line.ends[0].close(line.now)
    line.run(1)
    assert not line.of(LinkOver).by_peer
    assert line.of(LinkOver, 1).by_peer
    assert line.ends[0].next_timer() is None


def test_what_is_not_known_is_refused():
    """A protocol that nobody has (RFC 1661 §5.7), a code that nobody has (§5.6)."""
    line = Line(link_pair()).up()
    caller = line.ends[0]
    caller.receive(write_frame(0x80FB, b"\x01\x01\x00\x04"), line.now)
    caller.receive(write_frame(Number.LCP, write_packet(77, 5, b"what")), line.now)
    said = [read_packet(read_frame(frame)[1]) for frame in caller.send()]
    assert [one.code for one in said] == [Code.PROTOCOL_REJECT, Code.CODE_REJECT]
    assert said[0].data.startswith(b"\x80\xfb") and said[1].data.startswith(b"\x4d\x05")
    assert caller.is_up


class Nothing(Options):
    """Wants one option, and takes any."""

    def __init__(self, kinds=(1,)):
        self.kinds, self.said = list(kinds), []

    def wanted(self):
        return [Option(kind, b"x") for kind in self.kinds]

    def judge(self, option):
        return option if option.kind < 10 else None

    def corrected(self, option):
        self.said.append(("corrected", option))

    def refused(self, option):
        self.kinds.remove(option.kind)


def opened():
    one = Automaton(Number.IPCP, Nothing())
    one.open(0.0)
    request = read_packet(one.out.popleft())
    one.receive(Packet(Code.CONFIGURE_REQUEST, 1, b""), 0.1)
    one.receive(Packet(Code.CONFIGURE_ACK, request.identifier, request.data), 0.2)
    assert one.is_open
    one.out.clear()
    return one


STEPS = [
    # What comes to an open one, what it answers, and the state that it is in then (RFC 1661 §4.1).
    (
        Packet(Code.CONFIGURE_REQUEST, 9, b"\x02\x03x"),
        [Code.CONFIGURE_REQUEST, Code.CONFIGURE_ACK],
        AutomatonState.ACK_SENT,
    ),
    (
        Packet(Code.CONFIGURE_REQUEST, 9, b"\x0b\x03x"),
        [Code.CONFIGURE_REQUEST, Code.CONFIGURE_REJECT],
        AutomatonState.REQ_SENT,
    ),
    (Packet(Code.TERMINATE_REQUEST, 9, b""), [Code.TERMINATE_ACK], AutomatonState.STOPPING),
    (Packet(Code.TERMINATE_ACK, 9, b""), [Code.CONFIGURE_REQUEST], AutomatonState.REQ_SENT),
    (Packet(Code.CODE_REJECT, 9, b"\x63\1\0\4"), [], AutomatonState.OPENED),
    (Packet(Code.CODE_REJECT, 9, b"\x01\1\0\4"), [Code.TERMINATE_REQUEST], AutomatonState.STOPPING),
    (Packet(99, 9, b"what"), [Code.CODE_REJECT], AutomatonState.OPENED),
    (Packet(Code.CONFIGURE_REQUEST, 1, b""), [Code.CONFIGURE_ACK], AutomatonState.OPENED),
    (Packet(Code.CONFIGURE_NAK, 77, b"\x01\x03y"), [], AutomatonState.OPENED),
]


@pytest.mark.parametrize(("packet", "answers", "state"), STEPS, ids=[f"{one[0].code}-{one[2].name}" for one in STEPS])
def test_what_comes_to_an_open_automaton(packet, answers, state):
    """The last but one was repeated: it is acknowledged again, and nothing else happens."""
    one = opened()
    one.receive(packet, 1.0)
    assert [read_packet(said).code for said in one.out] == answers
    assert one.state is state


def test_what_is_asked_for_changes_with_the_answers():
    """Another value is asked for, what is refused no more; what is only repeated keeps its number."""
    one = Automaton(Number.IPCP, Nothing((1, 2)))
    one.open(0.0)
    first = read_packet(one.out.pop())
    one.handle_timer(one.next_timer())
    assert read_packet(one.out.pop()) == first
    one.receive(Packet(Code.CONFIGURE_REJECT, first.identifier, b"\x02\x03x"), 1.1)
    second = read_packet(one.out.pop())
    assert read_options(second.data) == [Option(1, b"x")] and second.identifier != first.identifier
    with pytest.raises(Malformed, match="malformed"):
        one.receive(Packet(Code.CONFIGURE_ACK, second.identifier, first.data), 1.2)
    one.close(2.0)
    assert read_packet(one.out.pop()).code == Code.TERMINATE_REQUEST


def test_two_sides_that_never_agree():
    """Each gives up after a while (RFC 1661 §4.6), instead of going on for ever."""

    class Stubborn(Nothing):
        def judge(self, option):
            return Option(option.kind, b"z")

        def refused(self, option):
            pass

    ends, now = [Automaton(Number.IPCP, Stubborn()) for _ in range(2)], 0.0
    for one in ends:
        one.open(now)
    count = 0
    for _ in range(400):
        for one, other in (ends, ends[::-1]):
            while one.out:
                count += 1
                other.receive(read_packet(one.out.popleft()), now)
        now += 0.5
        for one in ends:
            if (when := one.next_timer()) is not None and when <= now:
                one.handle_timer(now)
    assert count < 120
    assert not any(one.is_open for one in ends)


@pytest.mark.parametrize(
    ("frame", "number", "content"),
    [
        ("ff03 0021 45", 0x0021, "45"),
        ("0021 45", 0x0021, "45"),
        ("21 45", 0x0021, "45"),
        ("ff03 21 45", 0x0021, "45"),
        ("c021 01", 0xC021, "01"),
    ],
)
def test_frames_by_hand(frame, number, content):
    """RFC 1661 §6.5, §6.6: with and without address, control, and the first octet of the number."""
    assert read_frame(bytes.fromhex(frame)) == (number, bytes.fromhex(content))


@pytest.mark.parametrize("frame", ["", "c0", "ff03", "ff03c0"])
def test_frames_that_are_none(frame):
    with pytest.raises(Malformed):
        read_frame(bytes.fromhex(frame))


@given(st.lists(st.builds(Option, st.integers(0, 255), st.binary(max_size=40)), max_size=10), st.binary(max_size=9))
def test_packets_come_back(options, behind):
    packet = write_packet(1, 200, write_options(options))
    found = read_packet(packet + behind)
    assert read_options(found.data) == options
    assert read_frame(write_frame(Number.LCP, packet)) == (Number.LCP, packet)


@settings(max_examples=150)
@given(
    st.lists(st.tuples(st.sampled_from([*Number]), st.integers(0, 20), st.binary(max_size=60)), max_size=8),
    st.integers(0, 20),
)
def test_arbitrary_packets(rows, when):
    """To both ends, at any moment: nothing is raised, and the link comes up or says why it does not."""
    line = Line(link_pair())
    line.run(when * 0.02)
    for number, code, data in rows:
        for one in line.ends:
            one.receive(write_frame(number, write_packet(code, 1, data)), line.now)
            one.receive(write_frame(number, data), line.now)
            one.receive(data, line.now)
    line.up()
    assert line.of(NetworkUp) or line.of(LinkOver) or line.of(LinkOver, 1)


# Addresses of IPv6.


def test_a_router_of_another_program():
    """RFC 4861 §4.2, RFC 8106 §5.1, made by scapy; and scapy reads what ours says."""
    octets = bytes(
        IPv6(src="fe80::1", dst="ff02::1", hlim=255)
        / ICMPv6ND_RA()
        / ICMPv6NDOptPrefixInfo(prefixlen=64, prefix="2001:db8:5::", A=1)
        / ICMPv6NDOptRDNSS(dns=["2001:db8::53", "2001:db8::54"])
    )
    found = router.read_advertisement(octets)
    assert found.prefix == IPv6Network("2001:db8:5::/64")
    assert [str(one) for one in found.resolvers] == ["2001:db8::53", "2001:db8::54"]
    assert str(router.address_of(found.prefix, bytes(7) + b"\x0a")) == "2001:db8:5::a"
    made = IPv6(router.advertisement(bytes(7) + b"\1", found.prefix, found.resolvers))
    assert (made.src, made.hlim, made[ICMPv6NDOptPrefixInfo].prefix) == ("fe80::1", 255, "2001:db8:5::")
    said = made[ICMPv6ND_RA].cksum
    del made[ICMPv6ND_RA].cksum
    assert IPv6(bytes(made))[ICMPv6ND_RA].cksum == said
    asked = IPv6(router.solicitation(bytes(7) + b"\2"))
    assert asked.dst == "ff02::2" and ICMPv6ND_RS in asked
    assert router.is_for_router(bytes(asked)) and not router.is_for_router(octets)


@pytest.mark.parametrize(
    "spoil",
    [
        lambda packet: packet[:7] + b"\x40" + packet[8:],
        lambda packet: packet[:42] + b"\0\0" + packet[44:],
        lambda packet: packet[:50],
        lambda packet: b"\x45" + packet[1:],
    ],
    ids=["from further away", "checksum", "cut", "IPv4"],
)
def test_advertisements_that_are_none(spoil):
    good = router.advertisement(bytes(7) + b"\1", IPv6Network("2001:db8:5::/64"), (IPv6Address("2001:db8::53"),))
    assert router.read_advertisement(good)
    assert router.read_advertisement(spoil(good)) is None


@pytest.mark.parametrize("prefix", ["fe80::", "ff05::"])
def test_prefixes_that_nobody_can_use(prefix):
    octets = (
        IPv6(src="fe80::1", dst="ff02::1", hlim=255)
        / ICMPv6ND_RA()
        / ICMPv6NDOptPrefixInfo(prefixlen=64, prefix=prefix, A=1)
    )
    assert router.read_advertisement(bytes(octets)).prefix is None


@given(st.binary(max_size=200))
def test_arbitrary_advertisements(data):
    """Behind a header that holds, too."""
    body = bytes((134, 0, 0, 0)) + bytes(12) + data
    packet = bytes(IPv6(src="fe80::1", dst="ff02::1", hlim=255, nh=58, plen=len(body))) + body
    for one in (data, packet):
        try:
            router.read_advertisement(one)
        except Malformed:
            continue


@pytest.mark.parametrize("address", ["0.0.0.0", "127.0.0.1", "224.0.0.1", "255.255.255.255"])
def test_addresses_of_no_host(address):
    """Said as refused; a link with nothing else is over."""
    inner = NetworkSettings((IPv4Interface(f"{address}/32"),))
    line = Line(link_pair(inner=inner, families=(4,))).run(60)
    assert line.of(NetworkUp) is None
    assert "no host" in line.of(LinkOver).reason or "no address" in line.of(LinkOver).reason


def test_names_of_methods():
    assert {METHOD[value] for value in OPTION.values()} == {"pap", "chap", "ms-chap-v2"}
