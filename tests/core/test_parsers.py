"""Every parser of a stranger's octets raises one error and nothing else; what is written is read back the same."""

from __future__ import annotations

import contextlib
import ipaddress

import dns.message
import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import Wire
from zesty_burrow.core.certificates import trust
from zesty_burrow.core.credentials import NamePassword
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.dns.zone import Question, Zone, answer
from zesty_burrow.core.eap.packet import EapPacket, parse_eap_untrusted
from zesty_burrow.core.eap.password import PasswordPeer, PasswordServer
from zesty_burrow.core.eap.peer import EapPeer, EapServer, PeerState
from zesty_burrow.core.outside import geofeed, stun
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed
from zesty_burrow.intake.containers.archives import read_zip_untrusted
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.credentials import read_credentials_untrusted
from zesty_burrow.protocols.ikev2.wire.message import (
    Header,
    build_clear,
    parse_inner_untrusted,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.payloads import (
    READERS,
    Authentication,
    Certificate,
    Configuration,
    Delete,
    Eap,
    Identification,
    KeyExchange,
    Nonce,
    Notify,
    Proposal,
    SecurityAssociation,
    TrafficSelector,
    TrafficSelectors,
    Transform,
)

short = st.binary(max_size=60)
u8, u16 = st.integers(0, 255), st.integers(0, 65535)
transforms = st.builds(Transform, u8, u16, st.sampled_from([0, 128, 256]))
proposals = st.builds(Proposal, u8, u8, st.binary(max_size=8), st.lists(transforms, min_size=1, max_size=6).map(tuple))
pairs4 = st.tuples(st.binary(min_size=4, max_size=4), st.binary(min_size=4, max_size=4))
selectors = pairs4.map(lambda pair: TrafficSelector(min(pair), max(pair), 17, 1, 2))
payloads = st.one_of(
    st.builds(SecurityAssociation, st.lists(proposals, min_size=1, max_size=3).map(tuple)),
    st.builds(KeyExchange, u16, short),
    st.builds(Nonce, st.binary(min_size=16, max_size=256)),
    st.builds(Identification, st.sampled_from([35, 36]), u8, short),
    st.builds(Certificate, u8, short),
    st.builds(Authentication, u8, short),
    st.builds(Notify, u16, short, u8, st.binary(max_size=4)),
    st.builds(Delete, u8, st.lists(st.binary(min_size=4, max_size=4), min_size=1, max_size=4).map(tuple)),
    st.builds(TrafficSelectors, st.sampled_from([44, 45]), st.lists(selectors, max_size=3).map(tuple)),
    st.builds(Configuration, u8, st.lists(st.tuples(st.integers(0, 32767), short), max_size=4).map(tuple)),
    st.builds(Eap, short),
)


@given(st.lists(payloads, max_size=6))
def test_payloads_round_trip(entries):
    """RFC 7296 §3: a message that is written is read back as the same values."""
    header = Header(b"initiate", b"responds", 34, 8, 7)
    message = parse_message_untrusted(build_clear(header, entries))
    assert list(message.payloads) == entries
    assert (message.header.initiator_spi, message.header.message_id) == (b"initiate", 7)


@given(st.binary(max_size=200))
def test_arbitrary_messages(data):
    """Whatever comes, parsing gives a message or ``Malformed``."""
    framed = b"initiate" + bytes(8) + bytes([33, 0x20, 34, 8]) + bytes(4) + (28 + len(data)).to_bytes(4) + data
    for octets in (data, framed):
        try:
            message = parse_message_untrusted(octets)
        except Malformed as problem:
            assert "octet" in str(problem)
        else:
            assert message.raw == octets


@given(st.sampled_from(sorted(READERS)), st.binary(max_size=120))
def test_arbitrary_payloads(kind, data):
    """Each payload's reader uses its range up, or says what is wrong."""
    octets = bytes([0, 0]) + (4 + len(data)).to_bytes(2) + data
    try:
        found = parse_inner_untrusted(kind, octets)
    except Malformed:
        return
    assert [entry.type for entry in found] == [kind]


@pytest.mark.parametrize(
    ("octets", "why"),
    [
        (bytes(27), "28 octets|announced"),
        (b"initiate" + bytes(8) + bytes([33, 0x20, 34, 8]) + bytes(4) + (99).to_bytes(4), "announces 99"),
        (bytes(16) + bytes([0, 0x20, 34, 8]) + bytes(4) + (28).to_bytes(4), "SPI is zero"),
    ],
)
def test_headers(octets, why):
    """A header that is cut, lies about its length or has no SPI is refused with the reason."""
    with pytest.raises(Malformed, match=why):
        parse_message_untrusted(octets)


def test_more_payloads_than_allowed():
    """A chain of empty payloads ends at the limit, not with the memory."""
    header = Header(b"initiate", b"responds", 34, 8, 0)
    with pytest.raises(Malformed, match="more than 64"):
        parse_message_untrusted(build_clear(header, [Eap(b"")] * 65))


@given(st.integers(0, 40), st.binary(max_size=40))
def test_cursor_never_reads_past_its_range(size, data):
    """A bounded range gives its octets and no more, and complains about what is left over."""
    cursor = Cursor(data)
    try:
        with cursor.within(size):
            assert cursor.take(size) == data[:size]
        assert cursor.position == size <= len(data)
    except Malformed:
        assert size > len(data)
    with pytest.raises(Malformed), Cursor(b"abc").within(2):
        pass


@given(st.binary(max_size=80))
def test_eap_packets(data):
    """RFC 3748 §4: arbitrary packets, and the machines that take them, raise only ``Malformed``."""
    for octets in (data, b"\x01\x07" + (4 + len(data)).to_bytes(2) + data, b"\x01\x07" + (5 + len(data)).to_bytes(2) + b"\x1a" + data):  # fmt: skip
        try:
            packet = parse_eap_untrusted(octets)
            assert packet.octets() == octets
        except Malformed:
            continue
        peer = EapPeer(PasswordPeer(lambda: NamePassword("n", Secret("p")), bytes))
        server = EapServer([lambda: PasswordServer(lambda name: "p", bytes, b"gateway")])
        server.start()
        for machine in (peer, server):
            with contextlib.suppress(Malformed):
                machine.receive(packet)
        assert peer.msk == b""
        assert server.msk == b""


def test_eap_success_out_of_the_blue():
    """RFC 3748 §4.2: Success before the method has ended proves nothing."""
    peer = EapPeer(PasswordPeer(lambda: NamePassword("n", Secret("p")), bytes))
    with pytest.raises(Malformed, match="did not show"):
        peer.receive(EapPacket(3, 1))
    assert peer.state is PeerState.WAITING


def test_eap_other_method_is_declined():
    """RFC 3748 §5.3.1: asked for MD5, we name the method that we would take; no name goes out."""
    asked = []
    peer = EapPeer(PasswordPeer(lambda: asked.append(1), bytes))
    answer = peer.receive(EapPacket(1, 9, 4, b"\x10" + bytes(16)))
    assert (answer.type, answer.data, answer.identifier) == (3, b"\x1a", 9)
    assert asked == []


@given(st.binary(max_size=200))
def test_stun_and_certificates_and_archives(data):
    """STUN, X.509, ZIP and credentials readers raise documented errors only."""
    stun.binding_response(data, ("192.0.2.1", 5))
    for reader, argument in (
        (lambda octets: stun.read_response_untrusted(octets, bytes(12)), data),
        (trust.load_certificate_untrusted, data),
        (trust.load_pem_certificates_untrusted, data),
        (trust.load_pem_certificates_untrusted, b"-----BEGIN CERTIFICATE-----\n" + data),
    ):
        with contextlib.suppress(Malformed):
            reader(argument)
    for octets in (data, b"PK\x03\x04" + data):
        with pytest.raises(Exception) as caught:
            read_zip_untrusted(KitFile("kit.zip", octets))
        assert caught.value.slug == "archive-damaged"
    try:
        read_credentials_untrusted(data.decode("latin-1"), "credentials.txt")
    except Malformed as problem:
        assert "credentials.txt" in str(problem)


def test_stun_round_trip():
    """RFC 8489 §14.2 for both families."""
    for source in (("192.0.2.77", 4242), ("2001:db8::77", 65535)):
        request, transaction = stun.binding_request(lambda size: bytes(range(size)))
        assert stun.read_response_untrusted(stun.binding_response(request, source), transaction) == source


ZONE = Zone(
    "observatory.example",
    {"observatory.example": ("203.0.113.10", "2001:db8:b5::10")},
    "probe.observatory.example",
    ("203.0.113.10",),
)


@pytest.mark.parametrize(
    ("name", "kind", "rcode", "answers", "token"),
    [
        ("observatory.example", "A", 0, ["203.0.113.10"], None),
        ("observatory.example", "AAAA", 0, ["2001:db8:b5::10"], None),
        ("n1-ab.T0ken.probe.observatory.example", "A", 0, ["203.0.113.10"], "t0ken"),
        ("n1-ab.t0ken.probe.observatory.example", "AAAA", 0, [], "t0ken"),
        ("n1-ab.t0ken.probe.observatory.example", "HTTPS", 0, [], "t0ken"),
        ("probe.observatory.example", "A", 0, [], None),
        ("nobody.observatory.example", "A", 3, [], None),
        ("quillwort.example", "A", 5, [], None),
    ],
)
def test_the_test_zone(name, kind, rcode, answers, token):
    """RFC 1035: authoritative answers; every question below the probe name is an observation."""
    response, question = answer(dns.message.make_query(name, kind).to_wire(), ZONE, over_udp=True)
    read = dns.message.from_wire(response)
    assert read.rcode() == rcode
    assert [str(row) for rrset in read.answer for row in rrset] == answers
    assert (question.token if question else None) == token
    if rcode != 5:
        assert read.authority or read.answer


@given(st.binary(max_size=100))
def test_arbitrary_dns(data):
    """A stranger's query gives an answer or silence."""
    response, question = answer(data, ZONE, over_udp=True)
    assert response is None or isinstance(response, bytes)
    assert question is None or isinstance(question, Question)


def test_geofeed():
    """RFC 8805 §2.1: comments, empty fields, the most specific row wins; a bad line is named."""
    places = geofeed.read_geofeed_untrusted(
        "# comment\n\n192.0.2.0/24,SI,SI-061,Ljubljana,\n192.0.2.64/26,,,,\n2001:db8::/32,PT,PT-11,Lisbon,1000\n"
    )
    book = geofeed.AddressBook(places, geofeed.read_operators_untrusted("192.0.2.0/24,Cobblewire\n"))
    assert book.place("192.0.2.1").city == "Ljubljana"
    assert book.place("192.0.2.77") == geofeed.GeofeedPlace()
    assert book.place("2001:db8::1").country == "PT"
    assert book.place("203.0.113.1") is None
    assert (book.operator("192.0.2.77"), book.operator("203.0.113.1")) == ("Cobblewire", "")
    for text, why in (("192.0.2.1/24,SI", "line 1"), ("192.0.2.0/24,Slovenia,,,", "ISO 3166-1")):
        with pytest.raises(Malformed, match=why):
            geofeed.read_geofeed_untrusted(text)


def test_messages_of_a_real_exchange_survive_any_cut():
    """Each message of a whole exchange, cut at every length, is dropped cleanly."""
    wire = Wire().connect()
    for to_gateway, port, data in wire.seen:
        for cut in range(len(data)):
            if to_gateway:
                wire.gateway.receive(data[:cut], ("192.0.2.1", 9), 1.0, port)
            else:
                wire.initiator.receive(data[:cut], ("198.51.100.18", port), 1.0)
    assert wire.initiator.state.value == "established"
    assert len(wire.gateway.responders) == 1


@given(
    st.dictionaries(
        st.one_of(
            st.tuples(st.integers(0, 2**32 - 1), st.integers(0, 32)).map(
                lambda one: ipaddress.ip_network((one[0] >> (32 - one[1]) << (32 - one[1]), one[1]))
            ),
            st.tuples(st.integers(0, 255), st.integers(120, 128)).map(
                lambda one: ipaddress.ip_network(
                    ((0x20010DB8 << 96) + (one[0] >> (128 - one[1]) << (128 - one[1])), one[1])
                )
            ),
        ),
        st.text(min_size=1, max_size=3),
        max_size=8,
    ),
    st.one_of(
        st.integers(0, 2**32 - 1).map(ipaddress.IPv4Address),
        st.integers(0, 255).map(lambda n: ipaddress.IPv6Address((0x20010DB8 << 96) + n)),
    ),
)
def test_the_longest_prefix(rows, address):
    """As looking through all the networks finds it."""
    covering = [network for network in rows if network.version == address.version and address in network]
    expected = rows[max(covering, key=lambda network: network.prefixlen)] if covering else None
    assert geofeed.Prefixes(rows).find(address) == expected
