"""Which name server a question is for, and what counts as its answer; dnspython judges the octets."""

from __future__ import annotations

import ipaddress

import dns.message
import dns.rcode
import dns.reversename
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.dns.split_names import SplitNames, failure, is_answer, read_name_untrusted, reverse_zones

SPLIT = SplitNames(
    {
        "office.tidewrack.example": "office",
        "lab.office.tidewrack.example.": "laboratory",
        "20.10.in-addr.arpa": "office",
    },
    "relay",
)
CHOICES = [
    ("files.office.tidewrack.example", "office"),
    ("office.tidewrack.example.", "office"),
    ("FILES.Office.Tidewrack.EXAMPLE", "office"),
    ("a.b.lab.office.tidewrack.example", "laboratory"),
    ("backoffice.tidewrack.example", "relay"),
    ("office.tidewrack.example.evil.example", "relay"),
    ("tidewrack.example", "relay"),
    ("5.0.20.10.in-addr.arpa", "office"),
    ("5.0.120.10.in-addr.arpa", "relay"),
    ("", "relay"),
]


@pytest.mark.parametrize(("name", "who"), CHOICES)
def test_choices(name, who):
    """Whole labels count, the longest zone first, in any case."""
    assert SPLIT.choose(name) == who


@pytest.mark.parametrize(
    ("network", "zones"),
    [
        ("10.20.0.0/16", ["20.10.in-addr.arpa"]),
        ("10.20.4.0/23", ["4.20.10.in-addr.arpa", "5.20.10.in-addr.arpa"]),
        ("192.0.2.128/25", 128),
        ("10.20.0.0/9", 128),
        ("0.0.0.0/0", []),
        ("2001:db8:c0b::/48", ["b.0.c.0.8.b.d.0.1.0.0.2.ip6.arpa"]),
        ("2001:db8:c0b::/47", ["a.0.c.0.8.b.d.0.1.0.0.2.ip6.arpa", "b.0.c.0.8.b.d.0.1.0.0.2.ip6.arpa"]),
    ],
)
def test_reverse_zones(network, zones):
    """Every address of the network is in one of them, as another library names it; too many are none."""
    network = ipaddress.ip_network(network, strict=False)
    found = reverse_zones([network])
    if isinstance(zones, int):
        assert found == () or len(found) <= 64
    else:
        assert list(found) == zones
    split = SplitNames(dict.fromkeys(found, "inside"), "outside")
    for address in (network[0], network[-1]) if found else ():
        assert split.choose(dns.reversename.from_address(str(address)).to_text()) == "inside"


@given(st.binary(max_size=200))
def test_a_strangers_octets(data):
    """Whatever comes is read, or is not a question."""
    name = read_name_untrusted(data)
    if name is not None:
        assert not is_answer(data, data)
        told = dns.message.from_wire(failure(data), question_only=True)
        assert told.rcode() == dns.rcode.SERVFAIL and told.id == dns.message.from_wire(data, question_only=True).id


@given(st.binary(max_size=120), st.integers(0, 65535))
def test_what_is_no_answer(data, number):
    """Another identifier, another name, a question: none of them answers."""
    query = dns.message.make_query("files.office.tidewrack.example", "AAAA", id=number, use_edns=0, payload=1232)
    wire = query.to_wire()
    assert read_name_untrusted(wire) == "files.office.tidewrack.example"
    assert is_answer(dns.message.make_response(query).to_wire(), wire)
    other = dns.message.make_query("files.office.tidewrack.example", "AAAA", id=number ^ 1)
    elsewhere = dns.message.make_query("mail.office.tidewrack.example", "AAAA", id=number)
    for wrong in (wire, dns.message.make_response(other).to_wire(), dns.message.make_response(elsewhere).to_wire()):
        assert not is_answer(wrong, wire)
    assert not is_answer(data, wire) or data[:2] == wire[:2]


def test_a_compressed_question_is_none():
    """RFC 1035 §4.1.4 would allow a pointer in a question; nobody sends one, and where it ends would be unclear."""
    query = dns.message.make_query("files.example", "A").to_wire()
    assert read_name_untrusted(query[:12] + b"\x01a\xc0\x0c" + query[-4:]) is None
    assert read_name_untrusted(query[:-1]) is None


def test_failure_as_a_library_reads_it():
    """It answers the question, keeps "recursion desired", and says why by its code."""
    query = dns.message.make_query("files.office.tidewrack.example", "A", use_edns=0)
    told = dns.message.from_wire(failure(query.to_wire()))
    assert query.is_response(told) and told.rcode() == dns.rcode.SERVFAIL
    assert told.flags & dns.flags.RD and not told.answer
