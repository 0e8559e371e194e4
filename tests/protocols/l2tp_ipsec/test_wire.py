"""ISAKMP and L2TP on the wire: octets by hand, the RFCs' numbers, what is malformed, arbitrary octets."""

from __future__ import annotations

import random
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from support import seeded
from zesty_burrow.core.crypto.key_exchange import modp_prime
from zesty_burrow.core.policy.algorithms import BY_NUMBER, TransformType
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import Malformed, ProfileInvalid
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import Offer, choose, esp_suite, ike_suite
from zesty_burrow.protocols.l2tp_ipsec.ikev1.identities import read_deletion, read_notification, selected
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    MAX_PAYLOADS,
    Exchange,
    Header,
    Payload,
    read_header,
    read_payloads,
    write_message,
    write_payloads,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.proposals import Proposal, Transform, chosen_of, read_sa, write_sa
from zesty_burrow.protocols.l2tp_ipsec.l2tp.avps import Avp, Message, message_of, read_avps, result_words, write_avps
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import CallOpened, L2tpConnection, Over
from zesty_burrow.protocols.l2tp_ipsec.l2tp.header import read_message, write_control
from zesty_burrow.protocols.l2tp_ipsec.settings import DEFAULT, read_settings

OFFER = Offer(((20, 256), (12, 256), (3, 0)), (12, 2), (19, 14, 2))


def test_the_small_groups():
    """RFC 2409 §6.2 and RFC 3526 §2: how the primes begin and end."""
    second, fifth = f"{modp_prime(2):X}", f"{modp_prime(5):X}"
    assert len(second) == 256 and len(fifth) == 384
    for one in (second, fifth):
        assert one.startswith("FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74020BBEA63B139B22")
    assert second.endswith("ECE65381FFFFFFFFFFFFFFFF") and fifth.endswith("CA237327FFFFFFFFFFFFFFFF")


def test_what_is_offered():
    """Every combination, the strongest first; a combined-mode cipher is for ESP alone; all within one datagram."""
    rows = OFFER.ike_proposal((1,)).transforms
    assert len(rows) == 2 * 2 * 3
    assert [str(ike_suite(row)[0]) for row in rows[:2]] == [
        "ENCR_AES_CBC 256, AUTH_HMAC_SHA2_256_128, PRF_HMAC_SHA2_256, 256-bit random ECP group",
        "ENCR_AES_CBC 256, AUTH_HMAC_SHA2_256_128, PRF_HMAC_SHA2_256, 2048-bit MODP Group",
    ]
    assert ike_suite(rows[-1])[0].group == 2
    found = [str(esp_suite(row)) for row in OFFER.esp_proposal(b"abcd").transforms]
    assert found[0] == "ENCR_AES_GCM_16 256" and found[-1] == "ENCR_3DES, AUTH_HMAC_SHA1_96"
    assert len(found) == 5


def test_the_longest_offer_fits_into_a_datagram():
    """With everything that is implemented: what is too long for one packet many networks do not let through."""
    every = {"encryption": [], "integrity": [], "key_exchange": [], "weak_algorithms": True}
    settings = read_settings(Table("l2tp-ipsec", {**every, "encryption": []}, "here"))
    offer = Offer(
        settings.offered("encryption"),
        tuple(number for number, _ in settings.offered("integrity")),
        tuple(number for number, _ in settings.offered("key_exchange")),
    )
    assert len(write_sa([offer.ike_proposal((1,))])) < 1300


def test_octets_by_hand():
    """RFC 2408 §3.3 to §3.6: one proposal with one transform, and attributes of both forms."""
    octets = bytes.fromhex(
        "00000001 00000001"  # domain of interpretation, situation
        "00000030 01010001"  # the last proposal of 48 octets; number 1, ISAKMP, no SPI, one transform
        "00000028 01010000"  # the last transform of 40 octets; number 1, KEY_IKE
        "80010007 800e0100 80020004 80030001 8004000e 800b0001 000c0004 00007080"
    )
    (found,) = read_sa(octets)
    transform = found.transforms[0]
    assert transform.attributes == ((1, 7), (14, 256), (2, 4), (3, 1), (4, 14), (11, 1), (12, 28800))
    suite, method = ike_suite(transform)
    assert (suite.encryption, suite.key_bits, suite.prf, suite.group, method) == (12, 256, 5, 14, 1)
    assert choose(OFFER, (1,), [found], 1) == (found, transform)
    assert choose(OFFER, (3,), [found], 1) is None


transforms = st.builds(
    Transform,
    st.integers(0, 255),
    st.integers(0, 255),
    st.lists(st.tuples(st.integers(0, 0x7FFF), st.integers(0, 0xFFFFFFFF)), max_size=6).map(tuple),
)
proposals = st.lists(
    st.builds(
        Proposal, st.integers(0, 255), st.integers(0, 255), st.binary(max_size=16),
        st.lists(transforms, min_size=1, max_size=4).map(tuple),
    ),
    min_size=1,
    max_size=4,
)  # fmt: skip


@given(proposals)
def test_proposals_come_back(rows):
    assert read_sa(write_sa(rows)) == rows


@given(st.lists(st.builds(Payload, st.integers(1, 255), st.binary(max_size=60)), min_size=1, max_size=6), st.binary())
def test_payloads_come_back(rows, behind):
    """Also with padding behind them, which is not taken for more."""
    octets = write_payloads(rows)
    assert read_payloads(rows[0].kind, octets) == (rows, len(octets))
    assert read_payloads(rows[0].kind, octets + behind, padded=True) == (rows, len(octets))
    header = Header((b"c" * 8, b"r" * 8), Exchange.QUICK, 7, encrypted=True)
    found, first, body = read_header(write_message(header, rows[0].kind, octets) + behind)
    assert (found, first, body) == (header, rows[0].kind, octets)


@pytest.mark.parametrize(
    "spoil",
    [
        lambda data: data[:20],
        lambda data: data[:17] + b"\x20" + data[18:],
        lambda data: data[:24] + b"\0\0\0\x1b" + data[28:],
        lambda data: data[:24] + b"\0\1\0\0" + data[28:],
        lambda data: b"x" * 70_000,
    ],
    ids=["short", "version 2", "shorter than its header", "longer than it is", "huge"],
)
def test_headers_that_are_none(spoil):
    good = write_message(Header((b"c" * 8, b"r" * 8), Exchange.MAIN), 1, b"\0\0\0\x05x")
    read_header(good)
    with pytest.raises(Malformed):
        read_header(spoil(good))


def test_a_crowd_of_payloads():
    octets = write_payloads([Payload(13, b"")] * (MAX_PAYLOADS + 1))
    with pytest.raises(Malformed, match="more than"):
        read_payloads(13, octets)


@pytest.mark.parametrize(
    ("changed", "why"),
    [
        ({"number": 2}, "not offered"),
        ({"identifier": 3}, "not offered"),
        ({"attributes": ((1, 5), (2, 4))}, "not offered"),
    ],
)
def test_an_answer_that_was_not_offered(changed, why):
    offered = Proposal(1, 1, b"", (Transform(1, 1, ((1, 7), (2, 4))), Transform(2, 1, ((1, 5), (2, 2)))))
    good = Transform(2, 1, ((2, 2), (1, 5)))
    assert chosen_of([offered], write_sa([Proposal(1, 1, b"", (good,))]))[1] == offered.transforms[1]
    fields = {"number": 1, "identifier": 1, "attributes": ((1, 7), (2, 4)), **changed}
    number = fields.pop("number")
    answer = Proposal(number, 1, b"", (Transform(1, fields["identifier"], fields["attributes"]),))
    with pytest.raises(Malformed, match="malformed") as told:
        chosen_of([offered], write_sa([answer]))
    assert why in told.value.why


@given(st.binary(max_size=400))
def test_arbitrary_octets(data):
    """Each reader says malformed, and nothing else."""
    for read in (read_header, read_sa, read_avps, read_message, read_notification, read_deletion, selected,
                 lambda octets: read_payloads(1, octets, padded=True)):  # fmt: skip
        try:
            read(data)
        except Malformed:
            continue


# L2TP.


def test_a_control_message_by_hand():
    """RFC 2661 §3.1, §4.1, §4.4: a request for a tunnel."""
    octets = bytes.fromhex(
        "c802 002c 0000 0000 0000 0000"
        "8008 0000 0000 0001"  # message type SCCRQ
        "8008 0000 0002 0100"  # protocol version 1.0
        "8008 0000 0009 0007"  # assigned tunnel 7
        "8008 0000 0007 6d65"  # host name "me"
    )
    header, body = read_message(octets)
    assert (header.control, header.tunnel, header.session, header.numbers) == (True, 0, 0, (0, 0))
    found = read_avps(body)
    assert found == {0: b"\0\1", 2: b"\1\0", 9: b"\0\7", 7: b"me"}
    made = write_avps(
        Message.SCCRQ, {Avp.PROTOCOL_VERSION: b"\1\0", Avp.ASSIGNED_TUNNEL: b"\0\7", Avp.HOST_NAME: b"me"}
    )
    assert made == body


@pytest.mark.parametrize(
    ("octets", "why"),
    [
        ("c803001400000000000000008008000000000001", "version is 3"),
        ("8802001400000000000000008008000000000001", "has a length"),
        ("c802001f00000000000000008008000000000001", "announces 31"),
        ("c802000800000000000000008008000000000001", "less than its header"),
        ("c80200", "left"),
    ],
)
def test_messages_that_are_none(octets, why):
    with pytest.raises(Malformed) as told:
        read_message(bytes.fromhex(octets))
    assert why in told.value.why


@pytest.mark.parametrize(
    ("octets", "why"),
    [
        ("8007 0000 0000 01", "MESSAGE_TYPE has 1"),
        ("8005 0000 0000", "announces 5"),
        ("c00a 0000 0007 11223344", "mandatory"),
        ("8008 0009 0001 0001", "mandatory"),
        ("8008 0000 0063 0001", "mandatory"),
    ],
    ids=["size", "length", "hidden", "a vendor's", "unknown"],
)
def test_attributes_that_cannot_be_read(octets, why):
    with pytest.raises(Malformed) as told:
        read_avps(bytes.fromhex(octets))
    assert why in told.value.why
    # What is not mandatory is passed over.
    if why == "mandatory":
        optional = bytes.fromhex(octets)
        assert read_avps(bytes([optional[0] & 0x7F]) + optional[1:]) == {}


def test_reasons_in_words():
    assert result_words(b"\0\4\0\0", {4: "no access"}) == "no access"
    assert result_words(b"\0\2\0\x07" + b"198.51.100.7", {2: "an error"}) == "an error (198.51.100.7)"
    assert result_words(b"\0\x63", {}) == "result 99"


def pair(seed):
    return [
        L2tpConnection(seeded(seed), "one", is_caller=True),
        L2tpConnection(seeded(seed + 1), "two", is_caller=False),
    ]


def test_a_refusal_is_addressed_to_the_peer_s_tunnel():
    """Who wants L2TP's own secret is told so, by the number that it has given its tunnel (RFC 2661 §4.1, §5.1.1)."""
    end = L2tpConnection(seeded(1), "one", is_caller=True)
    end.start(0.0)
    (asked,) = end.send()
    assert read_message(asked)[0].tunnel == 0
    values = {Avp.ASSIGNED_TUNNEL: (77).to_bytes(2), Avp.CHALLENGE: b"prove it", Avp.HOST_NAME: b"two"}
    end.receive(write_control(end.tunnel, 0, (0, 1), write_avps(Message.SCCRP, values)), 0.1)
    told = [(header.tunnel, message_of(read_avps(body))) for header, body in map(read_message, end.send()) if body]
    assert told == [(77, Message.STOP_CCN)] and isinstance(end.next_event(), Over)


@pytest.mark.parametrize("seed", range(20))
def test_control_messages_arrive(seed):
    """A quarter is lost, a quarter comes twice, in any order: the call stands, and each message was taken once."""
    chance = random.Random(seed)
    ends, events, flying, now = pair(seed), ([], []), [], 0.0
    ends[0].start(now)
    for step in range(4000):
        for side, end in enumerate(ends):
            for message in end.send():
                for _ in range(2 if chance.random() < 0.25 else 1):
                    if chance.random() > 0.25:
                        flying.append((now + chance.random(), side, message))
            while (event := end.next_event()) is not None:
                events[side].append(event)
        due = [one for one in flying if one[0] <= now]
        flying = [one for one in flying if one[0] > now]
        for _, side, message in due:
            ends[1 - side].receive(message, now)
        now += 0.05
        for end in ends:
            if (when := end.next_timer()) is not None and when <= now:
                end.handle_timer(now)
        if step == 2500:
            ends[0].hello(now)
    assert [type(one) for one in events[0]] == [CallOpened] and [type(one) for one in events[1]] == [CallOpened]
    assert ends[0].peer_numbers == ends[1].own_numbers and ends[1].peer_numbers == ends[0].own_numbers


def test_no_answer():
    """Given up after half a minute; nothing more is sent."""
    end, now = pair(1)[0], 0.0
    end.start(now)
    sent = 0
    while (event := end.next_event()) is None:
        sent += len(end.send())
        now = end.next_timer()
        end.handle_timer(now)
    assert isinstance(event, Over) and event.by_peer and "30 s" in event.reason
    assert sent == 6 and end.next_timer() is None


@pytest.mark.parametrize(
    ("message", "reason"),
    [
        ("800a 0000 0001 0004 0000", "no access"),
        ("8008 0000 0000 0002 8008 0000 0009 0000", "number 0"),
        ("8008 0000 0000 0002", "lacks ASSIGNED_TUNNEL"),
        ("8008 0000 0000 000b", "at the wrong time"),
        ("8008 0000 0000 0002 8008 0000 0009 0007 800a 0000 000b 11223344", "own secret"),
    ],
)
def test_what_ends_a_call_before_it_stands(message, reason):
    """By the other end's word, or by a message that cannot be followed."""
    end = pair(2)[0]
    end.start(0.0)
    end.send()
    body = bytes.fromhex(message)
    if reason == "no access":
        body = bytes.fromhex("8008 0000 0000 0004") + body
    head = bytes.fromhex("c802") + (12 + len(body)).to_bytes(2) + end.tunnel.to_bytes(2) + bytes.fromhex("000000000001")
    end.receive(head + body, 0.1)
    assert reason in end.next_event().reason


@given(st.lists(st.binary(max_size=120), max_size=10))
def test_arbitrary_messages(rows):
    """At both ends, with and without a true header in front: nothing is raised, and nothing grows without bound."""
    for end in pair(3):
        end.start(0.0)
        for number, one in enumerate(rows):
            end.receive(one, 0.1)
            head = bytes.fromhex("c802") + (12 + len(one)).to_bytes(2) + end.tunnel.to_bytes(2)
            end.receive(head + bytes(2) + number.to_bytes(2) + b"\0\1" + one, 0.2)
            end.receive(b"\0\2" + end.tunnel.to_bytes(2) + end.session.to_bytes(2) + one, 0.3)
        assert len(end.send()) <= 3 * len(rows) + 4


# Settings.


@pytest.mark.parametrize(
    ("table", "why"),
    [
        ({"encryption": ["ENCR_3DES"]}, "needs weak_algorithms = true"),
        ({"integrity": ["AUTH_HMAC_SHA1_96"]}, "needs weak_algorithms = true"),
        ({"key_exchange": ["modp1024"]}, "needs weak_algorithms = true"),
        ({"encryption": ["ENCR_AES_GCM_16 256"]}, "for ESP alone"),
        ({"encryption": ["ENCR_CHACHA20_POLY1305"]}, "no algorithm that l2tp-ipsec has"),
        ({"encryption": ["ENCR_AES_CBC 255"]}, "no algorithm"),
        ({"key_exchange": ["modp2049"]}, "is 2048-bit MODP Group meant"),
        ({"port": 0}, "not between"),
        ({"child_seconds": 10}, "not between"),
        ({"weak_algorithms": "yes"}, "true or false"),
    ],
)
def test_settings_that_are_wrong(table, why):
    with pytest.raises(ProfileInvalid) as told:
        read_settings(Table("l2tp-ipsec", table, "profile office"))
    assert why in told.value.why


def test_short_names_and_the_explicit_word():
    """In any case, with the customary hyphens; weak ones by the word alone."""
    table = {
        "encryption": ["aes-256-cbc", "3DES"],
        "integrity": ["sha256", "SHA1"],
        "key_exchange": ["MODP2048", "ecp256"],
    }
    made = read_settings(Table("l2tp-ipsec", {**table, "weak_algorithms": True}, "here"))
    assert made.encryption == ((12, 256), (3, 0))
    assert made.integrity == ((12, 0), (2, 0))
    assert made.key_exchange == ((14, 0), (19, 0))
    assert made.written()["encryption"] == ["ENCR_AES_CBC 256", "ENCR_3DES"]
    plain = read_settings(Table("l2tp-ipsec", {}, "here"))
    assert plain.offered("encryption") == DEFAULT["encryption"]
    weak = read_settings(Table("l2tp-ipsec", {"weak_algorithms": True}, "here"))
    assert weak.offered("encryption") == (*DEFAULT["encryption"], (3, 0))
    for label, kind in (("encryption", TransformType.ENCR), ("key_exchange", TransformType.KE)):
        assert all((kind, number) in BY_NUMBER for number, _ in weak.offered(label))


def test_what_a_policy_forbids():
    """The profile's explicit word stands against the RFCs' advice, and against no organisation's policy."""
    weak = read_settings(Table("l2tp-ipsec", {"weak_algorithms": True}, "here"))
    assert weak.judge(Policy(), "office") == []
    assert weak.restrict(Policy(), "office").offered("key_exchange") == weak.offered("key_exchange")
    ours = Policy("Tidewrack Survey", strength=128)
    told = {entry.detail.partition(":")[0] for entry in weak.judge(ours, "office")}
    assert told == {
        "ENCR_3DES in l2tp-ipsec.encryption",
        "AUTH_HMAC_MD5_96 in l2tp-ipsec.integrity",
        "2048-bit MODP Group in l2tp-ipsec.key_exchange",
        "1536-bit MODP Group in l2tp-ipsec.key_exchange",
        "1024-bit MODP Group in l2tp-ipsec.key_exchange",
    }
    assert weak.restrict(ours, "office").offered("key_exchange") == ((19, 0), (15, 0))
    with pytest.raises(ProfileInvalid, match="leaves nothing"):
        weak.restrict(replace(ours, strength=256), "office")
    assert {entry.code.slug for entry in weak.check("office")} == {"ikev1-used", "algorithm-weak"}
