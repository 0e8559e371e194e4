"""PPTP at both ends: RFC 3079's vectors, octets by hand, scapy's reading, loss, what is refused, arbitrary octets."""

from __future__ import annotations

import random
import struct
from datetime import UTC, datetime
from ipaddress import ip_address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scapy.layers.inet import IP, UDP
from scapy.layers.l2 import GRE_PPTP
from scapy.layers.pptp import PPTPStartControlConnectionRequest
from scapy.packet import Raw

from l2tp_ends import INNER, ip4
from support import Reported, seeded
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Gateway, Profile, SignIn, TunnelSettings
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import GatewayError, GatewayUnreachable, Malformed, ProfileInvalid, SignInRefused
from zesty_burrow.profiles.policy import restrict
from zesty_burrow.protocols.ppp.automaton import Automaton
from zesty_burrow.protocols.ppp.link import CalledConfig
from zesty_burrow.protocols.ppp.mppe import MppeOptions, MppeReceiver, MppeSender, changed_key, first_key
from zesty_burrow.protocols.ppp.packet import Code, Number, Option, Packet, read_frame, read_options, read_packet
from zesty_burrow.protocols.pptp.control import HEAD, Message, MessageReader, PptpControl, write_message
from zesty_burrow.protocols.pptp.gateway_session import PptpCaller
from zesty_burrow.protocols.pptp.gre import GreFlow, read_gre, write_gre
from zesty_burrow.protocols.pptp.settings import PptpSettings
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import GRE_PORT, Down, Noticed, SessionRequest, StepDone

NAME, PASSWORD = "tidewrack_heron", "kelp-Forest_42"
GATEWAY, HERE = "198.51.100.98", ("192.0.2.1", 40000)
PROFILE = Profile(
    "office",
    Gateway((GATEWAY,)),
    tunnel=TunnelSettings(protocol="pptp"),
    sign_in=SignIn("password", "ms-chap-v2"),
    settings=PptpSettings(),
)


def test_keys_of_the_rfc():
    """RFC 3079 §3.5.3: from the password to the first key of 128 bits, and what it makes of a message."""
    from cryptography.hazmat.decrepit.ciphers.algorithms import ARC4
    from cryptography.hazmat.primitives.ciphers import Cipher

    hashes = mschapv2.Hashes.of("clientPass")
    theirs = bytes.fromhex("5b5d7c7d7b3f2f3e3c2c602132262628")
    ours = bytes.fromhex("21402324255e262a28295f2b3a337c7e")
    response = mschapv2.nt_response(theirs, ours, b"User", hashes)
    key = mschapv2.session_key(hashes, response)
    # As the RFC's server sends, which is the half with which the other side receives.
    start = key[16:32]
    assert start.hex() == "8b7cdc149b993a1ba118cb153f56dccb"
    session = first_key(start)
    assert session.hex() == "405cb2247a7956e6e211007ae27b22d4"
    machine = Cipher(ARC4(session), mode=None).encryptor()
    assert machine.update(b"test message").hex() == "81848317df68846272fb5abe"
    assert changed_key(start, session) != session


def test_encryption_of_packets_alone():
    """RFC 3078 §2.1: packets under changing keys; what is lost is passed over, what is old is not taken."""
    sender, receiver = MppeSender(b"k" * 16), MppeReceiver(b"k" * 16)
    control = b"\xff\x03\xc0\x21\x09\x01\x00\x04"
    assert sender.seal(control) == control and receiver.open(control) == control
    frames = [b"\xff\x03\x00\x21" + ip4("10.66.6.10", "203.0.113.10", size) for size in (10, 20, 30, 40)]
    sealed = [sender.seal(frame) for frame in frames]
    assert [read_frame(one)[0] for one in sealed] == [0xFD] * 4
    assert [one[4:6].hex() for one in sealed] == ["9000", "9001", "9002", "9003"]
    assert len({one[6:30] for one in sealed}) == 4
    assert receiver.open(sealed[0]) == frames[0]
    assert receiver.open(sealed[2]) == frames[2]
    assert receiver.open(sealed[1]) == b""
    assert receiver.open(sealed[3]) == frames[3]
    with pytest.raises(Malformed, match="without encryption"):
        receiver.open(frames[0])
    for spoilt in (b"\x10", b"\x80\x04", b"\x00\x00\x01"):
        with pytest.raises(Malformed):
            receiver.open(b"\xff\x03\x00\xfd" + spoilt + bytes(4 if len(spoilt) > 1 else 0))


def test_the_numbers_begin_again():
    """After 4096 packets; a long run of losses costs some hashing and nothing else."""
    sender, receiver = MppeSender(b"k" * 16), MppeReceiver(b"k" * 16)
    for number in range(5000):
        sealed = sender.seal(b"\xff\x03\x00\x21" + struct.pack(">I", number))
        if number % 1700 == 0 or number > 4990:
            assert receiver.open(sealed)[4:] == struct.pack(">I", number)


@pytest.mark.parametrize(
    ("asked", "answer"),
    [("01000040", None), ("010000e1", "01000040"), ("00000020", "01000040"), ("01000001", "01000040")],
)
def test_only_the_strongest_kind(asked, answer):
    """Anything weaker is answered with what would do (RFC 3078 §2.1); without the option it is asked for."""
    one = Automaton(Number.CCP, MppeOptions())
    one.open(0.0)
    one.out.clear()
    one.receive(Packet(Code.CONFIGURE_REQUEST, 4, b"\x12\x06" + bytes.fromhex(asked)), 0.1)
    said = read_packet(one.out.pop())
    assert said.code == (Code.CONFIGURE_NAK if answer else Code.CONFIGURE_ACK)
    assert read_options(said.data) == [Option(18, bytes.fromhex(answer or asked))]
    one.receive(Packet(Code.CONFIGURE_REQUEST, 5, b""), 0.2)
    assert read_packet(one.out.pop()).code == Code.CONFIGURE_NAK


def test_gre_by_hand_and_by_scapy():
    """RFC 2637 §4.1."""
    octets = bytes.fromhex("3081 880b 0005 1234 00000007 00000003 ff03c02101")
    packet = read_gre(octets)
    assert (packet.call, packet.number, packet.acknowledged, packet.payload) == (0x1234, 7, 3, octets[16:])
    assert write_gre(0x1234, 7, 3, octets[16:]) == octets
    seen = GRE_PPTP(octets)
    assert (seen.call_id, seen.seqence_number, seen.ack_number, seen.payload_len) == (0x1234, 7, 3, 5)
    assert write_gre(9, None, 5, b"") == bytes.fromhex("2081 880b 0000 0009 00000005")
    for spoilt in (octets[:20], b"\x30\x80" + octets[2:], octets[:2] + b"\x08\0" + octets[4:], octets[:11]):
        with pytest.raises(Malformed):
            read_gre(spoilt)


def test_numbers_of_packets():
    """What came before is not taken again, whatever comes between; another call's is not taken at all."""
    one, other = GreFlow(1, 2), GreFlow(2, 1)
    packets = [one.wrap(bytes([number])) for number in range(5)]
    assert [other.unwrap(packets[index]) for index in (0, 2, 1, 2, 4)] == [b"\0", b"\2", b"", b"", b"\4"]
    assert read_gre(other.wrap(b"x")).acknowledged == 4
    assert GreFlow(7, 1).unwrap(packets[0]) == b""


def test_control_messages_by_hand_and_by_scapy():
    """RFC 2637 §2.1: sizes, cookie, version; in pieces of any size."""
    control = PptpControl(seeded(1), is_caller=True)
    control.start(0.0)
    octets = control.send()
    assert len(octets) == 156
    assert octets[:12].hex() == "009c00011a2b3c4d00010000"
    seen = PPTPStartControlConnectionRequest(octets)
    assert (seen.protocol_version, seen.ctrl_msg_type, seen.len) == (0x0100, 1, 156)
    reader, found = MessageReader(), []
    for index in range(len(octets)):
        found += reader.feed(octets[index : index + 1])
    assert found == [(1, octets[12:])]


@pytest.mark.parametrize(
    "octets",
    [
        HEAD.pack(156, 1, 0x1A2B3C4E, 1, 0),
        HEAD.pack(11, 1, 0x1A2B3C4D, 1, 0),
        HEAD.pack(600, 1, 0x1A2B3C4D, 1, 0),
        HEAD.pack(16, 1, 0x1A2B3C4D, 1, 0) + bytes(4),
    ],
    ids=["cookie", "short", "long", "another size"],
)
def test_messages_that_are_none(octets):
    with pytest.raises(Malformed):
        MessageReader().feed(octets)


class Wire(Reported):
    """A caller and a gateway's end; GRE loses and reorders by a seed, the stream comes in pieces."""

    def __init__(self, *, password=PASSWORD, inner=INNER, seed=1, loss=0.0, pieces=0, encrypted=True, timeout=10.0):
        self.chance, self.loss, self.pieces, self.now = random.Random(seed), loss, pieces, 100.0
        own = {CredentialsKind.NAME_PASSWORD: NamePassword(NAME, Secret(password))}
        request = SessionRequest(GATEWAY, own, datetime.now(UTC), timeout)
        self.session = protocol("pptp").session(PROFILE, request, seeded(seed))
        known = {NAME: PASSWORD}
        config = CalledConfig(
            "ms-chap-v2", known.get, lambda account: inner, ip_address("10.66.6.1").packed, "far", 1400, encrypted
        )
        self.caller = PptpCaller(config, seeded(seed + 1), HERE)
        self.events, self.gateway_events, self.seen = [], [], []
        self.session.start(self.now)
        self.caller.start(self.now)

    def cut(self, data):
        size = self.pieces or len(data) or 1
        return [data[at : at + size] for at in range(0, len(data), size)]

    def exchange(self):
        """What both sides have to say at this moment."""
        going = self.session.send(self.now)
        coming = self.caller.send_packets()
        self.chance.shuffle(coming)
        stream = self.caller.send_control()
        for one in going:
            self.seen.append(one.data)
            if one.local_port != GRE_PORT:
                for piece in self.cut(one.data):
                    self.caller.receive(piece, self.now)
            elif self.chance.random() >= self.loss:
                self.caller.receive_packet(one.data, self.now)
        for piece in self.cut(stream):
            self.session.receive(piece, (GATEWAY, 1723), self.now, 1)
        for data in coming:
            if self.chance.random() >= self.loss:
                self.session.receive(data, (GATEWAY, 0), self.now, GRE_PORT)

    def run(self, seconds=30.0, stop=lambda wire: False):
        end = self.now + seconds
        while self.now < end and not stop(self):
            self.exchange()
            self.now += 0.02
            for side in (self.session, self.caller):
                if (due := side.next_timer()) is not None and due <= self.now:
                    side.handle_timer(self.now)
            while (event := self.session.next_event()) is not None:
                self.events.append(event)
            while (event := self.caller.next_event()) is not None:
                self.gateway_events.append(event)
        return self

    def connect(self):
        return self.run(stop=lambda wire: (wire.up and wire.caller.is_up) or wire.down)


@pytest.mark.parametrize("pieces", [0, 1, 7])
def test_up(pieces):
    """In order; both families; packets both ways under MPPE; an end that the other side hears of."""
    wire = Wire(pieces=pieces).connect()
    assert [str(one.step) for one in wire.events if isinstance(one, StepDone)] == [
        "reach", "negotiate", "prove", "sign in"]  # fmt: skip
    assert wire.up.network.addresses == INNER.addresses
    assert [one.finding.code.slug for one in wire.events if isinstance(one, Noticed)] == ["pptp-unprotected"]
    here, there = wire.session.channel, wire.caller.channel
    going, coming = ip4("10.66.6.10", "203.0.113.10"), ip4("203.0.113.10", "10.66.6.10")
    for _ in range(3):
        sealed = here.seal(going, wire.now)
        assert going[20:] not in sealed
        assert there.open(sealed, wire.now) == going
        assert here.open(there.seal(coming, wire.now), wire.now) == coming
    assert here.allows_out(going[12:20]) and not here.allows_out(coming[12:20])
    assert here.counters.packets_in == here.counters.packets_out == 3
    assert len(sealed) <= len(going) + here.overhead
    wire.session.close(wire.now)
    wire.run(2)
    assert wire.down.error is None
    assert isinstance(wire.gateway_events[-1], Down)


@pytest.mark.parametrize("seed", range(8))
def test_a_lossy_path(seed):
    wire = Wire(seed=seed, loss=0.2, timeout=30.0).connect()
    assert wire.up.network.addresses[0] == INNER.addresses[0]


def test_another_password():
    wire = Wire(password="sea grass").connect()
    assert isinstance(wire.down.error, SignInRefused)
    assert all(b"sea grass" not in data for data in wire.seen)


def test_a_gateway_without_encryption():
    """It would carry packets in the clear: this side does not."""
    wire = Wire(encrypted=False).connect()
    assert isinstance(wire.down.error, GatewayError)
    assert "no encryption" in wire.down.error.why
    assert wire.up is None


def test_packets_in_the_clear_are_not_taken():
    """Once encryption was agreed on; and a frame for another call is nobody's."""
    wire = Wire().connect()
    channel, there = wire.session.channel, wire.caller.channel
    packet = ip4("203.0.113.10", "10.66.6.10")
    clear = there.flow.wrap(b"\xff\x03\x00\x21" + packet)
    with pytest.raises(Malformed, match="without encryption"):
        channel.open(clear, wire.now)
    assert channel.counters.rejected == 1
    other = GreFlow(1, 0xFFFF if channel.flow.own != 0xFFFF else 1)
    assert channel.open(other.wrap(b"\xff\x03\x00\x21" + packet), wire.now) == b""


def test_gre_that_does_not_get_through():
    """The connection stands and the packets do not come: said as that."""
    wire = Wire(loss=1.0, timeout=5.0).connect()
    assert isinstance(wire.down.error, GatewayUnreachable)
    assert "GRE (protocol 47) may be blocked" in wire.down.error.why


@pytest.mark.parametrize("how", ["close", "stream", "move"])
def test_ends(how):
    """By the gateway's word, by its connection, or as this machine moves: over, and nothing more is said."""
    wire = Wire().connect()
    if how == "close":
        wire.caller.close(wire.now)
    elif how == "stream":
        wire.session.receive(b"", (GATEWAY, 1723), wire.now, 1)
    else:
        wire.session.address_changed(wire.now)
    wire.run(3)
    assert wire.down.by_peer
    assert not wire.session.is_up and wire.session.next_timer() is None


def test_a_second_call():
    """A gateway that opens another call in the middle of the first ends the session; nothing of ours fails by it."""
    wire = Wire()
    replies = {}
    receive = wire.session.receive

    def listen(data, source, now, local_port=0):
        if local_port != GRE_PORT:
            for kind, body in MessageReader().feed(data):
                replies[kind] = write_message(Message(kind), body)
        receive(data, source, now, local_port)

    wire.session.receive = listen
    wire.connect()
    assert wire.session.is_up
    for kind in (Message.START_REPLY, Message.CALL_REPLY):
        receive(replies[kind], (GATEWAY, 1723), wire.now, 1)
    wire.run(1)
    assert wire.down.by_peer and "second call" in wire.down.reason
    assert not wire.session.is_up


@pytest.mark.parametrize(
    ("kind", "body", "why"),
    [
        (Message.START_REPLY, struct.pack(">HBB", 0x0100, 4, 0), "no access"),
        (Message.START_REPLY, struct.pack(">HBB", 0x0200, 1, 0), "result 1"),
        (Message.CALL_REPLY, b"", "CALL_REPLY"),
        (Message.STOP_REQUEST, b"\1", "asked to"),
    ],
)
def test_a_gateway_that_sets_up_no_call(kind, body, why):
    control = PptpControl(seeded(1), is_caller=True)
    control.start(0.0)
    control.receive(write_message(kind, body), 0.1)
    assert why in control.next_event().reason
    control.receive(write_message(kind, body), 0.2)
    assert control.next_event() is None


def test_questions_whether_it_is_there():
    """Answered by both ends; unanswered ones end it (RFC 2637 §3.1.4)."""
    wire = Wire().connect()
    wire.run(70)
    assert wire.down is None
    control = PptpControl(seeded(1), is_caller=True, timeout=5.0)
    control.start(0.0)
    control.handle_timer(6.0)
    assert "no answer" in control.next_event().reason


@settings(max_examples=80)
@given(st.lists(st.tuples(st.binary(max_size=100), st.booleans()), max_size=8), st.integers(0, 12))
def test_arbitrary_octets(rows, when):
    """By the connection and by GRE, at both ends, with and without a true header: nothing is raised."""
    wire = Wire(seed=2)
    wire.run(when * 0.02)
    for data, by_stream in rows:
        call = wire.session.channel.flow.own if wire.session.channel else 1
        if by_stream:
            wire.session.receive(data, (GATEWAY, 1723), wire.now, 1)
            wire.caller.receive(write_message(Message.ECHO_REQUEST, data[:4]) + data, wire.now)
        else:
            for one in (data, write_gre(call, 9, None, data), write_gre(wire.caller.call, 9, None, data)):
                wire.session.receive(one, (GATEWAY, 0), wire.now, GRE_PORT)
                wire.caller.receive_packet(one, wire.now)
    wire.run(12, stop=lambda one: one.up or one.down)
    assert wire.up or wire.down


def test_only_by_an_explicit_word():
    """Each time; an organisation's policy is above it."""
    with pytest.raises(ProfileInvalid, match="protects next to nothing") as told:
        restrict(Policy(), PROFILE)
    assert "--unprotected" in told.value.next_step
    assert restrict(Policy(), PROFILE, unprotected=True).settings == PptpSettings()
    with pytest.raises(ProfileInvalid, match="does not allow"):
        restrict(Policy("ours", strength=112), PROFILE, unprotected=True)
    assert PptpSettings().check("office")[0].code.slug == "pptp-unprotected"


def test_a_packet_of_another_program():
    """What scapy makes of GRE around PPP is read as its own."""
    inner = bytes(IP(src="203.0.113.10", dst="10.66.6.10") / UDP(sport=1, dport=2) / Raw(b"hello"))
    made = GRE_PPTP(call_id=5, seqnum_present=1, seqence_number=3, payload_len=4 + len(inner)) / Raw(
        b"\xff\x03\x00\x21" + inner
    )
    assert GreFlow(5, 6).unwrap(bytes(made)) == b"\xff\x03\x00\x21" + inner
