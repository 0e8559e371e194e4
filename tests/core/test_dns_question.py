"""Questions for addresses and their answers: dnspython reads what we write and writes what we read."""

from __future__ import annotations

from ipaddress import ip_address

import dns.flags
import dns.message
import dns.rdatatype
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.dns import zone
from zesty_burrow.core.dns.question import AAAA, A, build_query, read_addresses_untrusted, read_question_untrusted
from zesty_burrow.core.dns.zone import Zone
from zesty_burrow.errors import Malformed

NAME = "n1-0badcafe.0123456789abcdef.probe.tidewrack.example"
labels = st.text("abcdefghijklmnopqrstuvwxyz0123456789-", min_size=1, max_size=40).filter(lambda one: "--" not in one)
names = st.lists(labels, min_size=1, max_size=5).map(".".join)


@given(st.integers(0, 65535), names, st.sampled_from([A, AAAA]))
def test_a_question_as_an_independent_library_reads_it(identifier, name, kind):
    query = build_query(identifier, name, kind)
    read = dns.message.from_wire(query)
    assert (read.id, read.flags, len(read.question)) == (identifier, dns.flags.RD, 1)
    asked = read.question[0]
    assert asked.name.to_text(omit_final_dot=True) == name and asked.rdtype == kind
    assert query == dns.message.make_query(name, kind, id=identifier).to_wire()


def answered(query, *rows, **changes):
    """A response to a query, with rows of the answer as text."""
    response = dns.message.make_response(dns.message.from_wire(query))
    response.answer = [dns.rrset.from_text(row[0].rstrip(".") + ".", *row[1:]) for row in rows]
    for name, value in changes.items():
        setattr(response, name, value)
    return response.to_wire()


@pytest.mark.parametrize(
    ("kind", "rows", "expected"),
    [
        (A, [(NAME, 60, "IN", "A", "203.0.113.7", "203.0.113.8")], ["203.0.113.7", "203.0.113.8"]),
        (AAAA, [(NAME, 60, "IN", "AAAA", "2001:db8::7")], ["2001:db8::7"]),
        (
            A,
            [
                (NAME, 60, "IN", "CNAME", "exit.quillwort.example."),
                ("exit.quillwort.example.", 9, "IN", "A", "192.0.2.1"),
            ],
            ["192.0.2.1"],
        ),
        (A, [(NAME, 60, "IN", "AAAA", "2001:db8::7")], []),
        (A, [], []),
    ],
)
def test_addresses_in_an_answer(kind, rows, expected):
    """Those of the type that was asked for; names that stand for others are passed over, compressed ones too."""
    query = build_query(7, NAME, kind)
    # The library gives the records of a set in any order.
    found = read_addresses_untrusted(answered(query, *rows), query)
    assert sorted(found) == [ip_address(one) for one in expected]


def test_names_in_the_question_may_come_back_in_other_letters():
    query = build_query(7, NAME, A)
    answer = answered(query, (NAME, 60, "IN", "A", "203.0.113.7")).replace(b"tidewrack", b"TIDEwrack")
    assert read_addresses_untrusted(answer, query) == [ip_address("203.0.113.7")]


@pytest.mark.parametrize(
    "change",
    [
        lambda query, answer: build_query(8, NAME, A)[:2] + answer[2:],
        lambda query, answer: query,
        lambda query, answer: answered(
            build_query(7, "other.example", A), ("other.example.", 1, "IN", "A", "192.0.2.1")
        ),
        lambda query, answer: answered(build_query(7, NAME, AAAA)),
        lambda query, answer: answer[:2] + bytes([answer[2] | 0x28]) + answer[3:],
        lambda query, answer: answer[:4] + b"\0\2" + answer[6:],
    ],
    ids=["number", "no answer", "name", "type", "operation", "two questions"],
)
def test_what_answers_another_question(change):
    query = build_query(7, NAME, A)
    with pytest.raises(Malformed, match="another question"):
        read_addresses_untrusted(change(query, answered(query, (NAME, 60, "IN", "A", "203.0.113.7"))), query)


@given(st.data())
def test_a_stranger_s_octets(data):
    """Cut or changed anywhere, or anything at all: addresses or a word that it is malformed, and nothing else."""
    query = build_query(7, NAME, A)
    whole = answered(query, (NAME, 60, "IN", "A", "203.0.113.7", "203.0.113.8"))
    octets = bytearray(whole)
    for _ in range(data.draw(st.integers(0, 4))):
        octets[data.draw(st.integers(0, len(octets) - 1))] = data.draw(st.integers(0, 255))
    octets = bytes(octets[: data.draw(st.integers(0, len(octets)))]) + data.draw(st.binary(max_size=40))
    try:
        found = read_addresses_untrusted(octets, query)
    except Malformed:
        return
    assert all(one.version == 4 for one in found) and len(found) <= 64


@pytest.mark.parametrize("name", ["", "a..b", "x" * 64 + ".example", ".".join(["abcdefgh"] * 30), "a\udc80.example"])
def test_names_that_cannot_be_asked_for(name):
    with pytest.raises(Malformed, match="cannot be asked for"):
        build_query(1, name, A)


def test_an_answer_without_end():
    """A count of records beyond reason costs nothing."""
    query = build_query(7, NAME, A)
    record = b"\xc0\x0c\0\1\0\1\0\0\0\1\0\4\xcb\0\x71\7"
    answer = query[:2] + b"\x81\x80\0\1\xff\xff\0\0\0\0" + query[12:] + record * 4000
    assert len(read_addresses_untrusted(answer, query)) == 64


ZONE = Zone(
    "tidewrack.example",
    {
        "observatory.tidewrack.example": ("203.0.113.5", "2001:db8::5"),
        "tidewrack.example": ("203.0.113.6",),
        "many.tidewrack.example": tuple(f"203.0.113.{last}" for last in range(40)),
    },
    probe="probe.tidewrack.example",
    probe_addresses=("203.0.113.9",),
)
asked = st.one_of(
    st.sampled_from(
        [*ZONE.addresses, NAME, "nothing.tidewrack.example", "quillwort.example", "x.PROBE.tidewrack.example"]
    ),
    names,
)


@given(asked, st.sampled_from([1, 2, 16, 28, 255]), st.booleans(), st.booleans(), st.integers(0, 65535))
def test_plain_answers_are_those_of_the_library(name, kind, recursive, extended, identifier):
    """What is answered at once is octet for octet what the whole way gives, and so is what was asked."""
    query = dns.message.make_query(name, kind, id=identifier, use_edns=0 if extended else None)
    if not recursive:
        query.flags &= ~dns.flags.RD
    at_once = zone.answer(query.to_wire(), ZONE, over_udp=True)
    assert zone.library_answer(query.to_wire(), ZONE, over_udp=True) == at_once


def test_plain_questions_are_read_plainly():
    assert read_question_untrusted(build_query(1, NAME.upper(), AAAA)) == (NAME, AAAA)
    assert read_question_untrusted(dns.message.make_query(NAME, "A", use_edns=0).to_wire()) is None
    assert zone.plain_answer(build_query(1, NAME, A), ZONE)[1].token == "0123456789abcdef"
    # More than surely fits is looked at by who can say that something was left out.
    assert zone.plain_answer(build_query(1, "many.tidewrack.example", A), ZONE) is None
    assert zone.answer(build_query(1, "many.tidewrack.example", A), ZONE, over_udp=True)[0][2] & 0x02


@given(st.binary(max_size=80), st.integers(0, 60))
def test_questions_of_strangers(tail, cut):
    """Anything at all behind a header that promises a question: a name and a type, or None."""
    whole = build_query(1, NAME, A)
    for octets in (whole[:12] + tail, whole[:cut] + tail, whole[:cut]):
        found = read_question_untrusted(octets)
        assert found is None or (found[0] == found[0].lower() and 0 <= found[1] <= 65535)
        assert found is None or dns.message.from_wire(octets).question
