"""Signatures of the observatory's zone: RFC 8080's example, an independent library's check, and what a look says."""

from __future__ import annotations

import base64

import dns.dnssec
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.dns.question import DS, HTTPS, A, build_query, read_reply_untrusted, with_signatures
from zesty_burrow.core.dns.signing import ZoneSigner, key_record, parent_record
from zesty_burrow.core.dns.zone import Zone, answer
from zesty_burrow.core.outside.checks.asked import name_types
from zesty_burrow.core.outside.judgement import judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting
from zesty_burrow.errors import Malformed

KEY = Ed25519PrivateKey.from_private_bytes(base64.b64decode("ODIyNjAzODQ2MjgwODAxMjI2NDUxOTAyMDQxNDIyNjI="))
ORIGIN = "observatory.example"
NOW = 1_800_000_000
ZONE = Zone(ORIGIN, {ORIGIN: ("192.0.2.1", "2001:db8::1")}, f"probe.{ORIGIN}", ("192.0.2.1", "2001:db8::1"))
SIGNER = ZoneSigner(KEY, ORIGIN, lambda: NOW)
NAME = dns.name.from_text(ORIGIN)


def test_rfc_8080():
    """§6.1: the key, and what the parent zone has of it."""
    assert (
        key_record(KEY.public_key()).to_text().replace(" ", "") == "257315l02Woi0iS8Aa25FQkUd9RMzZHJpBoRQwAQEX1SxZJA4="
    )
    digest = "3aa5ab37efce57f737fc1627013fee07bdf241bd10f3b1964ab55c78e79a304b"
    assert parent_record("example.com", KEY.public_key()) == f"example.com. IN DS 3613 15 2 {digest}"


def ask(name, kind, *, signatures=True):
    query = dns.message.make_query(name, kind, want_dnssec=signatures)
    octets, _ = answer(query.to_wire(), ZONE, over_udp=True, complete=SIGNER.complete)
    return dns.message.from_wire(octets)


def signed_rows(message):
    for section in (message.answer, message.authority):
        for rows in section:
            if rows.rdtype != dns.rdatatype.RRSIG:
                yield rows, message.find_rrset(section, rows.name, rows.rdclass, dns.rdatatype.RRSIG, rows.rdtype)


def keys():
    message = ask(ORIGIN, "DNSKEY")
    return {NAME: message.find_rrset(message.answer, NAME, 1, dns.rdatatype.DNSKEY)}


@pytest.mark.parametrize(
    ("name", "kind", "records"),
    [
        (ORIGIN, "A", 1), (ORIGIN, "AAAA", 1), (ORIGIN, "DNSKEY", 1), (ORIGIN, "HTTPS", 0), (ORIGIN, "SOA", 0),
        (f"n1.token.probe.{ORIGIN}", "A", 1), (f"N1.Token.probe.{ORIGIN}", "AAAA", 1),
        (f"good-1.token.probe.{ORIGIN}", "A", 1), (f"n1.token.probe.{ORIGIN}", "HTTPS", 0),
        (f"nobody.{ORIGIN}", "A", 0),
    ],
)  # fmt: skip
def test_every_answer_is_signed(name, kind, records):
    """By a library that is not ours; what there is not is denied, for this name and this type alone."""
    message = ask(name, kind)
    assert message.ednsflags & dns.flags.DO and message.rcode() == dns.rcode.NOERROR
    rows = list(signed_rows(message))
    for one, signatures in rows:
        dns.dnssec.validate(one, signatures, keys(), now=NOW)
        with pytest.raises(dns.exception.DNSException):
            dns.dnssec.validate(one, signatures, keys(), now=NOW + 90_000)
    assert sum(one.rdtype == dns.rdatatype.from_text(kind) for one, _ in rows if one in message.answer) == records
    if not records:
        (denied,) = [one for one, _ in rows if one.rdtype == dns.rdatatype.NSEC]
        assert denied.name == dns.name.from_text(name) and kind not in denied[0].to_text().split()[1:]


def test_a_broken_signature():
    (row, signatures), *_ = signed_rows(ask(f"bad-7.token.probe.{ORIGIN}", "A"))
    with pytest.raises(dns.dnssec.ValidationFailure):
        dns.dnssec.validate(row, signatures, keys(), now=NOW)


def test_who_does_not_ask_for_signatures_gets_none():
    message = ask(f"n1.token.probe.{ORIGIN}", "A", signatures=False)
    assert [rows.rdtype for rows in message.answer] == [dns.rdatatype.A]
    assert ask(f"nobody.{ORIGIN}", "A", signatures=False).rcode() == dns.rcode.NXDOMAIN


def test_a_question_with_the_wish_for_signatures():
    """As an independent library reads it; its answer's head, and what answers another question."""
    query = with_signatures(build_query(77, "a.example", HTTPS))
    seen = dns.message.from_wire(query)
    assert (seen.id, seen.edns, seen.payload, seen.ednsflags) == (77, 0, 1232, dns.flags.DO)
    assert seen.question[0].to_text() == "a.example. IN HTTPS"
    response = dns.message.make_response(seen)
    response.flags |= dns.flags.AD
    response.set_rcode(dns.rcode.SERVFAIL)
    assert read_reply_untrusted(response.to_wire(), query) == (2, True, 0)
    response.id = 78
    for octets in (response.to_wire(), query, b"", query[:11]):
        with pytest.raises(Malformed):
            read_reply_untrusted(octets, query)


@given(st.binary(max_size=60))
def test_a_stranger_s_answer(data):
    query = build_query(1, "a.example", A)
    try:
        reply = read_reply_untrusted(data, query)
    except Malformed:
        return
    assert 0 <= reply.code < 16


class Asked:
    """A name server that answers as ``how`` says: of name, type and whether over TCP; code and number of records."""

    about = {"probe_zone": f"probe.{ORIGIN}", "signed_zone": ORIGIN}

    def __init__(self, how, questions=()):
        self.how, self.questions = how, list(questions)

    def random(self, octets):
        return bytes(octets)

    def together(self, questions):
        return [question() for question in questions]

    def get(self, path, version=0):
        return {"questions": self.questions}

    def ask_name_server(self, questions):
        from zesty_burrow.core.dns.question import Reply

        found = [self.how(*one) for one in questions]
        return [None if one is None else Reply(one[0], False, one[1]) for one in found]


HOME, EXIT = Sighting("192.0.2.77", "Cobblewire", "SI"), Sighting("198.51.100.19", "Quillwort Relay", "PT")
BEFORE = Observation("2026-11-01T09:00:00Z", HOME, resolvers=(HOME,), names_asked=6, names_answered=6)
AFTER = Observation("2026-11-01T09:05:00Z", EXIT, resolvers=(EXIT,), names_asked=6, names_answered=6)


def seen_of(how, questions=()):
    evidence = name_types.CHECK.ask(Asked(how, questions), AFTER)
    after = AFTER.with_evidence(evidence)
    own = {code.slug for code in name_types.CODES} | {"dns-leak", "dns-foreign"}
    found = judge(BEFORE, after, ExpectedExit("PT")).findings
    return evidence, {entry.code.slug: entry.detail for entry in found if entry.code.slug in own}


def test_all_is_well():
    evidence, found = seen_of(lambda name, kind, tcp: (2, 0) if name.startswith("bad-") else (0, 1))
    assert set(evidence["name_types"]) == {
        f"{kind} by {by}" for kind in ("A", "AAAA", "HTTPS") for by in ("UDP", "TCP")
    }
    assert all(evidence["name_types"].values()) and (evidence["signatures"], found) == ("checked", {})
    rows = list(name_types.CHECK.rows(BEFORE, AFTER.with_evidence(evidence)))
    assert rows == [("types of questions", "unknown", "all"), ("signatures (DNSSEC)", "unknown", "checked")]


@pytest.mark.parametrize(
    ("how", "signatures", "codes"),
    [
        (lambda name, kind, tcp: (0, 1), "not checked", {"dns-unchecked"}),
        (lambda name, kind, tcp: (0, kind != DS), "", set()),
        (lambda name, kind, tcp: (2, 0) if "-" in name and name[:3] in ("bad", "goo") else (0, 1), "", set()),
        (lambda name, kind, tcp: None if name.startswith("bad-") else (0, 1), "", set()),
        (lambda name, kind, tcp: None if tcp else (0, 1), "not checked", {"dns-type-unanswered", "dns-unchecked"}),
        (lambda name, kind, tcp: (4, 0) if kind == HTTPS else (0, 1), "not checked",
         {"dns-type-unanswered", "dns-unchecked"}),
    ],
)  # fmt: skip
def test_what_a_name_server_does_not_do(how, signatures, codes):
    evidence, found = seen_of(how)
    assert (evidence["signatures"], set(found)) == (signatures, codes)


def test_a_resolver_that_sees_one_type_alone():
    """Other types may go to another server: one from before the tunnel is a leak."""
    rows = [
        {"resolver": EXIT.address, "operator": EXIT.operator},
        {"resolver": HOME.address, "operator": HOME.operator},
    ]
    _, found = seen_of(lambda name, kind, tcp: (0, 1), rows)
    assert HOME.address in found["dns-leak"] and "dns-foreign" not in found


def test_no_name_server_no_evidence():
    class Nobody(Asked):
        def ask_name_server(self, questions):
            return None

    assert name_types.CHECK.ask(Nobody(None), AFTER) == {}
