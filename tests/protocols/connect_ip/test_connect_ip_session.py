"""Both ends of CONNECT-IP back to back: the order of things, every sign-in, what is refused, loss and return."""

from __future__ import annotations

import random
import ssl
from dataclasses import replace
from datetime import timedelta
from ipaddress import IPv4Interface, ip_address, ip_network

import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given, settings
from hypothesis import strategies as st

from http_ends import (
    AUTHORITY,
    EVERYTHING,
    HERE,
    INNER,
    KEY,
    NAME,
    THERE,
    Wire,
    a_config,
    a_profile,
    a_session,
    certificate,
    client_key,
    ip4,
    pem_of,
    wall_time,
)
from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.profile import Traffic
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    GatewayNotProven,
    GatewayProtocolError,
    GatewayUnreachable,
    NoAgreement,
    ProfileInvalid,
    SignInRefused,
)
from zesty_burrow.lab.authority import make_authority
from zesty_burrow.protocols.connect_ip.http.tls_link import H2, HTTP1
from zesty_burrow.protocols.connect_ip.wire.capsules import (
    AddressEntry,
    CapsuleType,
    Route,
    no_address,
    write_addresses,
    write_capsule,
    write_routes,
)
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import ChannelChanged, Down, Moved, NetworkSettings, Up


def old_version(context):
    context.maximum_version = ssl.TLSVersion.TLSv1_2


def other_groups(context):
    context.minimum_version = ssl.TLSVersion.TLSv1_3
    context.set_ecdh_curve("secp521r1")


@pytest.mark.parametrize(("limit", "why"), [(old_version, "speaks no TLS 1.3"), (other_groups, "takes none of")])
def test_a_gateway_without_a_tls_in_common(tmp_path, limit, why):
    """Another TLS implementation's server: told as what it is; nothing but the first message was sent."""
    paths = tmp_path / "chain.pem", tmp_path / "key.pem"
    paths[0].write_bytes(certificate().public_bytes(Encoding.PEM))
    paths[1].write_bytes(pem_of(KEY))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(*paths)
    limit(context)
    coming, going = ssl.MemoryBIO(), ssl.MemoryBIO()
    server = context.wrap_bio(coming, going, server_side=True)
    session = a_session(a_profile(transport="tcp", key_exchange=("x25519",)))
    session.start(0.0)
    (hello,) = session.send(0.0)
    coming.write(hello.data)
    with pytest.raises(ssl.SSLError):
        server.do_handshake()
    session.receive(going.read(), THERE, 0.1, session.local_port)
    events = []
    while (event := session.next_event()) is not None:
        events.append(event)
    (down,) = [one for one in events if isinstance(one, Down)]
    assert isinstance(down.error, NoAgreement) and why in down.error.why
    assert session.send(0.2) == []


WAYS = [("tcp", (H2, HTTP1)), ("tcp", (HTTP1,)), ("udp", ())]
way = pytest.mark.parametrize(("transport", "alpn"), WAYS, ids=["HTTP/2", "HTTP/1.1", "HTTP/3"])
STEPS = ["reach", "negotiate", "prove", "sign in"]


@way
def test_up(transport, alpn):
    """In order; both families; packets both ways, of any size; an end that the gateway hears of."""
    wire = Wire(a_profile(transport=transport), alpn=alpn)
    assert wire.steps == STEPS
    assert wire.up.network.addresses == INNER.addresses
    assert wire.up.remote == EVERYTHING
    small, large = ip4(b"x"), ip4(bytes(40000))
    for packet in (small, large):
        wire.up.channel.put(packet, wire.now)
        wire.run()
        assert wire.gateway_channel.take() == [packet]
        wire.gateway_channel.put(packet, wire.now)
        wire.run()
        assert wire.up.channel.take() == [packet]
    counted = wire.up.channel.counters
    assert (counted.packets_out, counted.packets_in, counted.rejected) == (2, 2, 0)
    wire.session.close(wire.now)
    wire.run()
    wire.wait(2)
    assert wire.down == Down(wire.down.at, by_peer=False)
    assert any(isinstance(getattr(one, "event", one), Down) for one in wire.gateway_events)


@pytest.mark.parametrize("pieces", [1, 7, 1000])
@pytest.mark.parametrize("alpn", [(H2,), (HTTP1,)])
def test_every_cut_point(alpn, pieces):
    """However TCP cuts the stream."""
    wire = Wire(alpn=alpn, pieces=pieces)
    assert wire.steps == STEPS
    wire.up.channel.put(ip4(bytes(3000)), wire.now)
    wire.run()
    assert wire.gateway_channel.take() == [ip4(bytes(3000))]


@settings(max_examples=12, deadline=None)
@given(st.integers(0, 1 << 32))
def test_a_lossy_path(seed):
    """HTTP/3 comes up and goes on through seeded loss; whole packets arrive, or nothing."""
    lossy = random.Random(seed)
    wire = Wire(a_profile(transport="udp"), lose=lambda: lossy.random() < 0.1)
    wire.wait(15)
    assert wire.up is not None, wire.events
    packets = [ip4(bytes([number]) * 900) for number in range(40)]
    for packet in packets:
        wire.up.channel.put(packet, wire.now)
        wire.run()
    wire.wait(1)
    taken = wire.gateway_channel.take()
    assert 20 <= len(taken) <= 40
    assert set(taken) <= set(packets)


@way
@pytest.mark.parametrize(
    ("chain", "code"),
    [
        ((certificate(start_days=-90, end_days=-1.0),), "certificate-expired"),
        ((certificate(name="parked.quillwort.example"),), "certificate-wrong-name"),
        ((certificate(authority=make_authority("Somebody Else")),), "certificate-untrusted"),
    ],
    ids=["expired", "wrong name", "untrusted"],
)
def test_a_gateway_that_does_not_prove_itself(transport, alpn, chain, code):
    """Nothing follows the first flight: no Finished, no request, no credentials, no certificate of ours."""
    wire = Wire(a_profile("certificate+basic", transport=transport), alpn=alpn, chain=chain, own=client_key())
    assert isinstance(wire.error, GatewayNotProven)
    assert wire.error.slug == code
    assert wire.steps == ["reach", "negotiate"]
    assert wire.gateway_events == []
    if transport == "tcp":
        assert len(wire.said) == 1  # the ClientHello
    told = len(wire.said)
    wire.wait(30)
    assert len(wire.said) == told


@way
def test_sign_in_by_password(transport, alpn):
    """RFC 7617; a wrong password is refused as one."""
    wrong = Wire(a_profile(transport=transport), alpn=alpn, password="not-it")
    assert isinstance(wrong.error, SignInRefused)
    assert wrong.error.why == "HTTP status 401"
    assert "not-it" not in str(wrong.events)


@pytest.mark.parametrize("alpn", [(H2,), (HTTP1,)])
@pytest.mark.parametrize("method", ["certificate", "certificate+basic"])
def test_sign_in_by_certificate(alpn, method):
    """Shown after the proof; one of another authority is refused, and so is none."""
    config = a_config(sign_ins=(method,))
    assert Wire(a_profile(method), alpn=alpn, config=config, own=client_key()).steps == STEPS
    stranger = Wire(a_profile(method), alpn=alpn, config=config, own=client_key(make_authority("Somebody Else")))
    assert isinstance(stranger.error, SignInRefused)
    assert isinstance(Wire(a_profile(), alpn=alpn, config=config).error, SignInRefused)


def test_a_name_that_basic_cannot_carry():
    profile = a_profile()
    with pytest.raises(ProfileInvalid, match="colon"):
        session = a_session(profile)
        secrets = {kind: replace(value, name="a:b") for kind, value in _secrets(session).items()}
        a_session_with(profile, secrets)


def _secrets(_):
    from zesty_burrow.core.credentials import NamePassword
    from zesty_burrow.core.scope import CredentialsKind
    from zesty_burrow.core.secret import Secret

    return {CredentialsKind.NAME_PASSWORD: NamePassword("a:b", Secret("x"))}


def a_session_with(profile, secrets):
    from http_ends import THERE, wall_time
    from zesty_burrow.protocols.registry import protocol
    from zesty_burrow.protocols.session import SessionRequest

    return protocol("connect-ip").session(profile, SessionRequest(THERE[0], secrets, wall_time(), 5.0), bytes)


@way
def test_what_grants_no_tunnel(transport, alpn):
    """A redirect is not followed, and nothing is sent to where it leads; a path that is none is told."""
    away = Wire(a_profile(transport=transport), alpn=alpn, config=a_config(redirect="http://other.example/"))
    assert isinstance(away.error, GatewayError)
    assert "credentials are not taken to another place" in away.error.why
    nowhere = Wire(a_profile(transport=transport), alpn=alpn, config=a_config(template="/elsewhere"))
    assert "there is no tunnel at /.well-known" in nowhere.error.why
    nothing_left = Wire(a_profile(transport=transport), alpn=alpn, config=a_config(assign=lambda *_: None))
    assert "no address" in str(nothing_left.error)


@pytest.mark.parametrize(("transport", "alpn"), [WAYS[0], WAYS[2]])
def test_without_extended_connect(transport, alpn):
    """RFC 8441 §3, RFC 9220 §3: it is not asked for unless it is announced; the sign-in stays here."""
    wire = Wire(a_profile(transport=transport), alpn=alpn, knows_connect=False)
    assert isinstance(wire.error, GatewayProtocolError)
    assert "no extended CONNECT" in wire.error.why
    assert wire.gateway_events == []


@way
def test_one_network_is_asked_for_by_name(transport, alpn):
    """RFC 9484 §4.6; for several everything is asked for, and this side keeps to its own."""
    one = Wire(a_profile(transport=transport, traffic=Traffic((ip_network("10.20.0.0/16"),))), alpn=alpn)
    assert [str(net) for entry in one.up.remote for net in entry.networks()] == ["10.20.0.0/16"]
    assert one.session.config.path.endswith("/10.20.0.0%2F16/*/")
    assert [entry.version for entry in one.up.network.addresses] == [4]
    both = (ip_network("10.20.0.0/16"), ip_network("2001:db8:20::/48"))
    two = Wire(a_profile(transport=transport, traffic=Traffic(both)), alpn=alpn)
    assert len(two.up.remote) == 2 and two.session.config.path.endswith("/*/*/")
    assert not two.up.channel.allows_out(ip_address("10.66.1.10").packed + ip_address("203.0.113.10").packed)


@way
def test_less_than_was_asked_for(transport, alpn):
    """A gateway that refuses one family (RFC 9484 §4.7.2), and one that never answers for it."""
    only = NetworkSettings(INNER.addresses[:1])
    wire = Wire(a_profile(transport=transport), alpn=alpn, config=a_config(assign=lambda *_: only))
    assert wire.up.network.addresses == INNER.addresses[:1]


@way
def test_networks_behind_this_side(transport, alpn):
    """Told to the gateway (RFC 9484 §4.7.3), which takes what the account may have; what it does not take stays outside."""
    behind = tuple(map(ip_network, ("10.99.1.0/24", "10.99.2.0/24", "192.168.1.0/24", "2001:db8:99::/48")))
    mine = tuple(AddressRange.of(ip_network(one)) for one in ("10.99.0.0/16", "2001:db8:99::/48"))
    config = a_config(networks_of=lambda account: mine if account == NAME else ())
    wire = Wire(a_profile(transport=transport, traffic=Traffic(behind=behind)), alpn=alpn, config=config)
    there = ip_address("203.0.113.10").packed
    inside, refused, elsewhere = (ip_address(one).packed for one in ("10.99.2.7", "192.168.1.7", "10.99.3.7"))
    assert wire.up.remote == EVERYTHING
    for channel, goes in ((wire.up.channel, True), (wire.gateway_channel, False)):
        allows = channel.allows_out if goes else channel.allows_in
        assert allows(inside + there) and not allows(elsewhere + there)
        assert allows(refused + there) == goes
    packet = ip4(b"answer", source="203.0.113.10", destination="10.99.2.7")
    wire.gateway_channel.put(packet, wire.now)
    wire.run()
    assert wire.up.channel.take() == [packet] and wire.up.channel.allows_in(there + inside)


@way
def test_packets_that_may_not_pass(transport, alpn):
    """RFC 9484 §7: only from what was assigned to where a route leads, both ways."""
    channel = Wire(a_profile(transport=transport), alpn=alpn).up.channel
    own, other, there = (ip_address(one).packed for one in ("10.66.1.10", "10.66.1.11", "203.0.113.10"))
    assert channel.allows_out(own + there) and channel.allows_in(there + own)
    assert not channel.allows_out(other + there) and not channel.allows_in(there + other)


# After it is up.


def by_hand(wire, data):
    """The gateway says something that our end of it would not."""
    wire.caller.say(data)
    wire.run()


@pytest.fixture(params=WAYS[:2], ids=["HTTP/2", "HTTP/1.1"])
def wire(request):
    """A tunnel over TCP that is up, whose gateway can be made to say anything."""
    made = Wire(alpn=request.param[1])
    link = made.caller.link
    made.caller.say = link.content
    return made


def test_the_gateway_changes_its_mind(wire):
    """Fewer routes replace those of before; an address that is taken away ends the tunnel."""
    own, there = ip_address("10.66.1.10").packed, ip_address("203.0.113.10").packed
    by_hand(wire, write_routes([Route(EVERYTHING[1])]))
    assert any(isinstance(one, ChannelChanged) for one in wire.events)
    assert not wire.up.channel.allows_out(own + there)
    by_hand(wire, write_addresses(CapsuleType.ADDRESS_ASSIGN, [AddressEntry(0, no_address(4))]))
    assert "taken this machine's address away" in str(wire.error)


def test_the_gateway_asks_for_an_address(wire):
    """Each request is answered, and refused: this side gives out none (RFC 9484 §4.7.2)."""
    by_hand(wire, write_addresses(CapsuleType.ADDRESS_REQUEST, [AddressEntry(9, no_address(6))]))
    assert wire.down is None
    assert wire.caller.answered == {9}


@pytest.mark.parametrize(
    "data", [write_capsule(1, b"\x00\x05"), write_capsule(3, b"\x04"), write_capsule(2, b""), b"\x00\x80\x10\x00\x00"]
)
def test_malformed_capsules(wire, data):
    """The tunnel is ended with the reason; nothing more is sent."""
    by_hand(wire, data)
    assert isinstance(wire.error, GatewayProtocolError)


def test_packets_under_other_contexts(wire):
    """RFC 9484 §6: a context that is not known is dropped, and counted; unknown capsules are skipped."""
    by_hand(
        wire, write_capsule(0, b"\x02" + ip4()) + write_capsule(0x99, b"?" * 50) + write_capsule(0, b"\0" + ip4(b"y"))
    )
    assert wire.up.channel.take() == [ip4(b"y")]
    assert wire.up.channel.counters.rejected == 1


@pytest.mark.parametrize("end", ["session", "gateway"])
def test_octets_changed_on_their_way(wire, end):
    """A record that does not open: TLS says so to the other side once, and nothing follows, whatever is to be sent."""
    record = b"\x17\x03\x03\x00\x20" + bytes(32)
    if end == "session":
        wire.session.receive(record, wire.session.peer, wire.now)
        wire.session.send(wire.now)
        wire.up.channel.put(ip4(), wire.now)
        assert wire.session.send(wire.now) == []
        wire.run()
        assert wire.session.wants_connection or isinstance(wire.error, BurrowError)
        return
    wire.caller.receive(record, HERE, wire.now)
    (said,) = wire.caller.send(wire.now)
    wire.gateway_channel.put(ip4(), wire.now)
    assert wire.caller.send(wire.now) == []
    wire.session.receive(said.data, wire.session.peer, wire.now)
    wire.run()
    assert wire.session.wants_connection or isinstance(wire.error, BurrowError)


@way
def test_the_gateway_ends_it_while_packets_go_out(transport, alpn):
    """An orderly end is one, whatever is sent until it is known; an end of this side's at that moment does no harm."""
    wire = Wire(a_profile(transport=transport), alpn=alpn)
    channel = wire.up.channel
    (wire.caller.close_all if transport == "udp" else wire.caller.close)(wire.now)
    for one in wire.caller.send(wire.now):
        wire.session.receive(one.data, wire.session.peer, wire.now)
    for _ in range(200):
        channel.put(ip4(), wire.now)
        wire.session.send(wire.now)
        wire.session.handle_timer(wire.now)
        wire.now += 0.005
    wire.run()
    assert wire.down.by_peer and wire.error is None
    wire.session.close(wire.now)
    assert wire.session.send(wire.now) == []


def test_this_side_ends_it_just_after_the_gateway():
    """Over HTTP/3, before that is known here."""
    wire = Wire(a_profile(transport="udp"))
    wire.caller.close_all(wire.now)
    for one in wire.caller.send(wire.now):
        wire.session.receive(one.data, wire.session.peer, wire.now)
    wire.session.address_changed(wire.now)
    wire.session.close(wire.now)
    wire.session.send(wire.now)
    wire.run()
    assert wire.down is not None


def test_an_orderly_end(wire):
    wire.caller.close(wire.now)
    wire.run()
    assert wire.down.by_peer and wire.error is None


def _varint(data, at):
    """RFC 9000 §16: a number, and where it ends."""
    size = 1 << (data[at] >> 6)
    return int.from_bytes(data[at : at + size]) & ((1 << (8 * size - 2)) - 1), at + size


def long_packets(datagram):
    """The types of the packets with long headers in a datagram (RFC 9000 §17.2): 0 Initial, 1 0-RTT, 2 Handshake."""
    at = 0
    while at < len(datagram) and datagram[at] & 0x80:
        kind = datagram[at] >> 4 & 3
        yield kind
        at += 5
        for _ in range(2):
            at += 1 + datagram[at]
        if kind == 0:
            size, at = _varint(datagram, at)
            at += size
        size, at = _varint(datagram, at)
        at += size


def test_packets_of_quic_by_hand():
    """An Initial with a token, a 0-RTT and a Handshake packet in one datagram, then one with a short header."""
    initial = bytes.fromhex("c0 00000001 02aabb 01cc 03 010203 4002 ffff")
    early, handshake = bytes.fromhex("d0 00000001 00 00 01 ff"), bytes.fromhex("e0 00000001 00 00 01 ff")
    assert list(long_packets(initial + early + handshake + b"\x40rest")) == [0, 1, 2]


@way
def test_return_after_a_loss(transport, alpn):
    """By a new connection, with a ticket; the proof and the sign-in are repeated; addresses and channel stay."""
    wire = Wire(a_profile(transport=transport), alpn=alpn)
    channel, signed = wire.up.channel, []
    wire.config = a_config(assign=lambda account, wanted: signed.append(wanted) or INNER)
    for _ in range(2):
        wire.connect()
        already = len(wire.said)
        if transport == "tcp":
            wire.session.receive(b"", wire.session.peer, wire.now)
            assert wire.session.wants_connection and wire.session.is_blocked
            channel.put(ip4(b"lost"), wire.now)
            wire.run()
            wire.session.address_changed(wire.now)
        else:
            wire.now += 6
            channel.put(ip4(b"lost"), wire.now)
        wire.run()
        wire.wait(12)
        assert wire.down is None, wire.down
        # No early data, which could be replayed (RFC 8446 §8): one message of the handshake, and no packet of 0-RTT.
        first = wire.said[already:]
        if transport == "tcp":
            assert first[0][0] == 22 and int.from_bytes(first[0][3:5]) + 5 == len(first[0])
        else:
            kinds = [kind for one in first for kind in long_packets(one)]
            assert 0 in kinds and 1 not in kinds
        channel.put(ip4(b"after"), wire.now)
        wire.run()
        assert wire.gateway_channel.take() == [ip4(b"after")]
    assert [one for one in wire.events if isinstance(one, Up)] == [wire.up]
    assert sum(isinstance(one, Moved) for one in wire.events) >= 2
    # RFC 9484 §4.7.2: it asks for the addresses that it had.
    assert signed[-1] == tuple(one.ip.packed for one in INNER.addresses)


@way
def test_a_return_to_somebody_else(transport, alpn):
    """Who answers in the gateway's place has to prove the same; nothing is sent to an impostor."""
    wire = Wire(a_profile(transport=transport), alpn=alpn)
    wire.chain = (certificate(authority=make_authority("Somebody Else")),)
    wire.context = None
    impostor = Wire(a_profile(transport=transport), alpn=alpn, chain=wire.chain)
    wire.context = impostor.context
    wire.connect()
    if transport == "tcp":
        wire.session.receive(b"", wire.session.peer, wire.now)
        wire.session.address_changed(wire.now)
    else:
        wire.now += 6
        wire.up.channel.put(ip4(b"lost"), wire.now)
    wire.run()
    wire.wait(12)
    assert isinstance(wire.error, GatewayNotProven)


@pytest.mark.parametrize(("transport", "alpn"), [WAYS[0], WAYS[2]])
def test_other_addresses_after_a_return(transport, alpn):
    """What the tunnel's users hold would be wrong: it ends, and says so."""
    wire = Wire(a_profile(transport=transport), alpn=alpn)
    wire.config = a_config(assign=lambda *_: NetworkSettings((IPv4Interface("10.66.1.99/32"),)))
    wire.connect()
    if transport == "tcp":
        wire.session.receive(b"", wire.session.peer, wire.now)
        wire.session.address_changed(wire.now)
    else:
        wire.now += 6
        wire.up.channel.put(ip4(b"lost"), wire.now)
    wire.run()
    wire.wait(12)
    assert "other addresses than before" in str(wire.error)


def test_a_move_over_http3():
    """RFC 9000 §9: the same connection goes on from another address; nobody signs in again."""
    wire = Wire(a_profile(transport="udp"))
    wire.session.address_changed(wire.now)
    wire.run()
    assert sum(isinstance(one, Moved) for one in wire.events) == 1
    assert len([one for one in wire.gateway_events if isinstance(one.event, Up)]) == 1


@way
def test_a_silent_gateway(transport, alpn):
    """Before the first answer in the time that was given; afterwards within the profile's own."""
    nobody = a_session(a_profile(transport=transport))
    nobody.start(0.0)
    while nobody.next_timer() is not None and nobody.next_timer() < 60:
        nobody.send(nobody.next_timer())
        nobody.handle_timer(nobody.next_timer())
    events = [nobody.next_event()]
    assert isinstance(events[0].error, GatewayUnreachable)
    assert "no answer to the first message for 5 seconds" in events[0].error.why
    wire = Wire(a_profile(transport=transport, peer_seconds=30, keep_alive_seconds=5), alpn=alpn)
    wire.caller.receive = lambda *_: None
    if alpn == (HTTP1,):
        # It has no question that is answered: TCP tells of the loss.
        wire.session.receive(b"", wire.session.peer, wire.now)
    begun = wire.now
    wire.wait(80)
    assert isinstance(wire.error, GatewayUnreachable), wire.events
    assert 30 <= wire.down.at - begun <= 45


@way
def test_keep_alive(transport, alpn):
    """An idle tunnel is asked about, answered, and stays."""
    wire = Wire(a_profile(transport=transport, keep_alive_seconds=5), alpn=alpn)
    said = len(wire.said)
    wire.wait(60)
    assert wire.down is None
    assert len(wire.said) - said >= 8


def test_a_crowd_of_capsules_is_bounded(wire):
    """A gateway that sends packets which nobody takes does not fill the memory without end."""
    for _ in range(40):
        by_hand(wire, write_capsule(0, b"\0" + ip4(bytes(60000))))
    assert sum(map(len, wire.up.channel.coming)) <= 1 << 21


@way
@settings(max_examples=25, deadline=None)
@given(st.binary(min_size=1, max_size=300), st.integers(0, 3))
def test_arbitrary_octets(transport, alpn, data, when):
    """A stranger's octets at any time: an error of ours or nothing, never another exception."""
    wire = Wire(a_profile(transport=transport), alpn=alpn) if when else None
    session = wire.session if wire else a_session(a_profile(transport=transport))
    if wire is None:
        session.start(1.0)
        session.send(1.0)
    session.receive(data, session.peer, 500.0)
    session.handle_timer(500.0)
    session.send(500.0)
    while (event := session.next_event()) is not None:
        if isinstance(event, Down) and event.error is not None:
            assert isinstance(event.error, BurrowError)


def test_a_proof_that_runs_out_while_it_is_up():
    """A return after the certificate has expired is refused, ticket or not: the chain is judged again."""
    wire = Wire(chain=(certificate(end_days=0.001),))
    assert wire.up is not None
    later = replace(wire.session.config.trust, wall_time=wire.session.config.trust.wall_time + timedelta(days=1))
    wire.session.config = replace(wire.session.config, trust=later)
    wire.connect()
    wire.session.receive(b"", wire.session.peer, wire.now)
    wire.session.address_changed(wire.now)
    wire.run()
    assert wire.error.slug == "certificate-expired"
    assert AUTHORITY.certificate is not None


@pytest.mark.parametrize("back", [False, True])
def test_many_datagrams_at_once(back):
    """As the kernel gives them in one piece: the same packets as one by one, in both directions."""
    wire = Wire(a_profile(transport="udp"))
    packets = [ip4(bytes([number]) * 900) for number in range(6)]
    source, taker, channel = (
        (wire.caller, wire.session, wire.gateway_channel) if back else (wire.session, wire.caller, wire.up.channel)
    )
    for packet in packets:
        channel.put(packet, wire.now)
    sent = [one.data for one in source.send(wire.now)]
    run = [data for data in sent if len(data) == max(map(len, sent))]
    assert len(run) >= 5
    taker.receive_burst(b"".join(run), len(run[0]), wire.session.peer if back else HERE, wire.now)
    taken = (wire.up.channel if back else wire.gateway_channel).take()
    assert taken == packets[: len(taken)] and len(taken) >= 5


def test_a_burst_of_bytes_of_a_stream():
    """Over TCP what comes is a piece of the stream, whatever its size; none is its end."""
    wire = Wire()
    wire.caller.receive_burst = None
    wire.gateway_channel.put(ip4(b"x"), wire.now)
    octets = b"".join(one.data for one in wire.caller.send(wire.now))
    wire.session.receive_burst(octets, len(octets), wire.session.peer, wire.now)
    assert wire.up.channel.take() == [ip4(b"x")]
    wire.session.receive_burst(b"", 1, wire.session.peer, wire.now)
    assert wire.session.wants_connection


def test_a_probe_leaves_nothing_open():
    """Who has only asked by HTTP/3 says so at the end: the gateway sends nothing more to a socket that is closed."""
    from zesty_burrow.protocols.session import SessionRequest

    wire = Wire(a_profile(transport="udp"))
    probe = wire.session = protocol("connect-ip").probe(
        wire.profile, SessionRequest(THERE[0], {}, wall_time(), 5.0), bytes
    )
    wire.connect()
    wire.events = []
    probe.start(wire.now)
    for _ in range(20):
        wire.run(rounds=1)
        if wire.events:
            break
    assert probe.found.version == "HTTP/3"
    assert not probe.found.against
    for one in probe.send(wire.now):
        wire.caller.receive(one.data, HERE, wire.now)
    for _ in range(400):
        wire.now += 0.1
        wire.caller.handle_timer(wire.now)
        assert wire.caller.send(wire.now) == []
