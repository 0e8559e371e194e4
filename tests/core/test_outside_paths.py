"""Checks of single packets: ICMP, plain HTTP, sizes and loss, connections from outside, STUN from each address."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scapy.all import IP, ICMPv6EchoReply, ICMPv6EchoRequest, IPv6
from scapy.layers.inet import ICMP

from zesty_burrow.core.outside import stun
from zesty_burrow.core.outside.checks.asked import icmp, inbound, path, plain_http, real_time
from zesty_burrow.core.outside.checks.check import PlainExchange
from zesty_burrow.core.outside.echo import MARK, echo_request, is_reply, read_echo_request_untrusted
from zesty_burrow.core.outside.judgement import judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, Sighting

HOME, HOME6 = Sighting("192.0.2.77", "Cobblewire"), Sighting("2001:db8:c0b:77::20", "Cobblewire")
EXIT, EXIT6 = Sighting("198.51.100.19", "Quillwort Relay"), Sighting("2001:db8:1001::3", "Quillwort Relay")
BEFORE = Observation("2026-11-01T09:00:00Z", HOME, HOME6, real_time=(HOME, HOME6), resolvers=(HOME,))
AFTER = Observation("2026-11-01T09:05:00Z", EXIT, EXIT6, real_time=(EXIT, EXIT6), resolvers=(EXIT,))
TOKEN = bytes(range(12))
ABOUT = {"echo": True, "inbound": True, "http_port": 80, "stun_port": 3478}
SENT = (("Host", "observatory.example"), ("X-Word", "one"))
FIELDS = [list(row) for row in SENT]


class Asked:
    """Answers by a table: ``seconds`` of each size, by version; the rest as the outside would see it."""

    extended = False

    def __init__(self, about=ABOUT, documents=(), seconds=None, exchange=None, states=None, by_source=None):
        self.about, self.documents, self.exchange = about, dict(documents), exchange
        self.seconds, self.states, self.by_source = seconds or {}, states or {}, by_source or {}
        self.sizes = []

    def random(self, octets):
        return TOKEN[:octets]

    def together(self, questions):
        return [question() for question in questions]

    def get(self, path, version=0, nonce=""):
        return self.documents.get(path)

    def echo(self, version, token):
        return version in self.documents.get("pings", ())

    def padded(self, version, port, sizes, *, whole):
        self.sizes.append((version, port, tuple(sizes), whole))
        return [self.seconds.get(version, lambda size, whole: None)(size, whole) for size in sizes]

    def inbound(self, version):
        return self.states.get(version, "")

    def listening(self, version):
        return [22, 631] if version == 6 else []

    def plain_request(self, version, port):
        return self.exchange if version == 4 else None

    def real_time(self, version, port):
        return {4: EXIT, 6: EXIT6}[version].address

    def real_time_by_source(self, port):
        return self.by_source


def codes(check, evidence, before=BEFORE, after=AFTER):
    """What a check says of its own evidence, through the whole judgement."""
    own = {code.slug for code in check.CODES}
    findings = judge(before, after.with_evidence(evidence), ExpectedExit("PT")).findings
    return [(entry.code.slug, entry.subject, entry.detail) for entry in findings if entry.code.slug in own]


@pytest.mark.parametrize("version", [4, 6])
def test_an_echo_request_as_others_read_it(version):
    """scapy takes it apart, with its checksum; its reply is ours, another one is not."""
    data = echo_request(version, TOKEN, 77)
    if version == 4:
        seen = ICMP(data)
        assert (seen.type, seen.code, seen.id, seen.seq) == (8, 0, 77, 1)
        seen.chksum = None
        assert bytes(seen) == data
        raw = bytes(IP(src="192.0.2.7", dst="203.0.113.10") / ICMP(data))
        reply = b"\0\0" + data[2:]
    else:
        seen = ICMPv6EchoRequest(data)
        assert (seen.type, seen.id, seen.seq, seen.data) == (128, 77, 1, MARK + TOKEN.hex().encode())
        raw, reply = data, bytes(ICMPv6EchoReply(id=77, seq=1, data=seen.data))
    assert read_echo_request_untrusted(raw, version) == TOKEN.hex()
    assert is_reply(reply, version, TOKEN) and not is_reply(reply, version, bytes(12))
    assert not is_reply(data, version, TOKEN)
    assert read_echo_request_untrusted(reply, version) == ""


@given(st.binary(max_size=80), st.sampled_from([4, 6]))
def test_any_octets_are_an_echo_request_or_none(data, version):
    assert len(read_echo_request_untrusted(data, version)) in (0, 24)
    assert not is_reply(data, version, TOKEN)


def test_the_address_of_icmp():
    document = {f"/v1/echoes/{TOKEN.hex()}": {"sources": [{"address": EXIT.address}]}, "pings": (4,)}
    seen = icmp.CHECK.ask(Asked(documents=document), AFTER)
    assert seen == {"icmp": {"4": EXIT.address}} and codes(icmp, seen) == []
    assert list(icmp.CHECK.rows(BEFORE, AFTER.with_evidence(seen))) == [
        ("IPv4 address of ICMP", "unknown", EXIT.address)
    ]
    assert codes(icmp, {"icmp": {"4": HOME.address}}) == [("icmp-leak", "IPv4", f"the outside sees {HOME.address}")]
    (row,) = codes(icmp, {"icmp": {"6": "2001:db8:1001::4"}})
    assert row == ("exits-differ", "IPv6", "TCP 2001:db8:1001::3, UDP 2001:db8:1001::3, ICMP 2001:db8:1001::4")
    # Before the tunnel ICMP may have had an address of its own.
    before = BEFORE.with_evidence({"icmp": {"4": "192.0.2.99"}})
    assert codes(icmp, {"icmp": {"4": "192.0.2.99"}}, before)[0][0] == "icmp-leak"
    assert icmp.CHECK.ask(Asked({**ABOUT, "echo": False}), AFTER) == {}
    for answer in (None, {"sources": "x"}, {"sources": []}, {"sources": [7]}):
        documents = {f"/v1/echoes/{TOKEN.hex()}": answer, "pings": (4, 6)}
        assert icmp.CHECK.ask(Asked(documents=documents), AFTER) == {"icmp": {"4": "", "6": ""}}


@pytest.mark.parametrize(
    ("answers", "wanted", "told"),
    [
        (lambda size, whole: 0.02, (10, 10, 1500, True), []),
        (lambda size, whole: 0.02 if size <= 1400 else None, (10, 10, 1400, False),
         [("fragments-lost", "IPv4", "a datagram of 2000 octets")]),
        (lambda size, whole: 0.02 if size <= 576 or not whole else None, (10, 10, 576, True),
         [("path-narrow", "IPv4", "the largest that was answered has 576 octets")]),
        (lambda size, whole: 0.02 if size == 200 or not whole else None, (10, 10, 0, True),
         [("path-narrow", "IPv4", "the largest that was answered has 200 octets")]),
    ],
)  # fmt: skip
def test_the_sizes_that_a_path_carries(answers, wanted, told):
    asked = Asked(seconds={4: answers})
    seen = path.CHECK.ask(asked, AFTER)
    row = seen["path"]["4"]
    assert (row["sent"], row["back"], row["largest"], row["fragments"]) == wanted and row["round_trip_ms"] == 20
    assert set(seen["path"]) == {"4"} and codes(path, seen) == told
    assert [(version, whole) for version, _, _, whole in asked.sizes] == [(4, True), (4, False), (6, True)]


def test_loss():
    times = iter([0.01, None, 0.03, None, None, *[0.02] * 30])
    seen = path.CHECK.ask(Asked(seconds={6: lambda size, whole: next(times)}), AFTER)
    assert codes(path, seen) == [("path-loss", "IPv6", "3 of 10 did not come back")]
    rows = {label: (old, new) for label, old, new in path.CHECK.rows(BEFORE, AFTER.with_evidence(seen))}
    assert rows["IPv6 round trip"] == ("unknown", "10 ms; 3 of 10 lost")
    assert rows["IPv6 largest packet"] == ("unknown", "1500 octets; fragments pass")
    more = Asked(seconds={4: lambda size, whole: 0.01})
    more.extended = True
    assert path.CHECK.ask(more, AFTER)["path"]["4"]["sent"] == 40


@pytest.mark.parametrize("octets", [0, 60, 64, 172, 548, 1472, 1996])
def test_padding(octets):
    """RFC 5780 §7.6 as an independent reader sees it; a proven one is answered by as many octets, others by few."""
    credential = stun.Credential("9999999999-a", "word")
    request, transaction = stun.binding_request(lambda count: bytes(range(count)), credential, octets)
    plain, _ = stun.binding_request(lambda count: bytes(range(count)), None, octets)
    assert len(plain) == max(octets if octets % 4 == 0 else 0, 28)
    assert len(request) == max(octets, 88) or octets in (0, 60, 64)
    kinds, at = [], 20
    while at < len(request):
        kind, size = struct.unpack_from("!HH", request, at)
        kinds.append(kind)
        at += 4 + size + -size % 4
    assert at == len(request) and kinds[0] == 6 and kinds[-2:] == [0x1C, 0x8028]
    assert (0x26 in kinds) == (octets >= 100)
    answer = stun.binding_response(request, ("192.0.2.77", 5000), lambda name: "word")
    assert stun.read_response_untrusted(answer, transaction, credential) == ("192.0.2.77", 5000)
    assert len(answer) <= len(request) and (octets < 100 or len(answer) == len(request))
    assert len(stun.binding_response(plain, ("192.0.2.77", 5000))) <= 44


def test_connections_from_outside():
    asked = Asked(states={4: "closed", 6: "open"})
    seen = inbound.CHECK.ask(asked, AFTER)
    assert seen == {
        "inbound": {"4": {"state": "closed", "listening": []}, "6": {"state": "open", "listening": [22, 631]}}
    }
    assert codes(inbound, seen) == [("inbound-open", "IPv6", "TCP ports that listen: 22, 631")]
    assert list(inbound.CHECK.rows(BEFORE, AFTER.with_evidence(seen))) == [
        ("IPv4 from outside", "unknown", "do not arrive"), ("IPv6 from outside", "unknown", "arrive here"),
    ]  # fmt: skip
    assert codes(inbound, {"inbound": {"4": {"state": "elsewhere", "listening": []}}}) == []
    assert inbound.CHECK.ask(Asked({"inbound": "yes"}), AFTER) == {}


@pytest.mark.parametrize(
    ("told", "answered", "changes"),
    [
        ({"target": "/t", "fields": FIELDS}, (("Content-Type", "x"), ("Date", "y")), []),
        ({"target": "/t", "fields": [*FIELDS, ["Via", "1.1 box\x07"]]}, (), ["the request arrives with Via: 1.1 box"]),
        ({"target": "/t", "fields": FIELDS[:1]}, (), ["the request arrives without X-Word, or with another one"]),
        ({"target": "/t", "fields": [["X-Word", "two"], *FIELDS[:1]]}, (),
         ["the request arrives without X-Word, or with another one"]),
        ({"target": "/t", "fields": FIELDS}, (("Via", "1.1 box"), ("Age", "7")),
         ["the answer has Via", "the answer has Age"]),
        ({}, (), ["the answer is not the observatory's"]),
        ({"target": "/u", "fields": FIELDS}, (), ["the answer is not the observatory's"]),
        ({"target": "/t", "fields": [7, None, ["a"], *FIELDS]}, (), []),
    ],
)  # fmt: skip
def test_http_on_the_way(told, answered, changes):
    exchange = PlainExchange("/t", SENT, {"address": EXIT.address, **told}, answered)
    seen = plain_http.CHECK.ask(Asked(exchange=exchange), AFTER)
    assert seen == {"plain_http": {"4": {"address": EXIT.address, "changes": changes}}}
    assert [row[0] for row in codes(plain_http, seen)] == ["http-changed"] * bool(changes)
    words = "changed on the way" if changes else "arrives as sent"
    assert list(plain_http.CHECK.rows(BEFORE, AFTER.with_evidence(seen))) == [("IPv4 HTTP", "unknown", words)]


def test_http_beside_the_tunnel():
    told = PlainExchange("/t", SENT, {"address": HOME.address, "target": "/t", "fields": FIELDS})
    seen = plain_http.CHECK.ask(Asked(exchange=told), AFTER)
    assert codes(plain_http, seen) == [("http-leak", "IPv4", f"the outside sees {HOME.address}")]
    assert plain_http.CHECK.ask(Asked({"http_port": "80"}), AFTER) == {}


def test_stun_from_each_address():
    """One of this machine's addresses has an answer that shows the home."""
    seen = real_time.CHECK.ask(Asked(by_source={"10.66.1.10": EXIT.address, "192.168.77.20": HOME.address}), AFTER)
    assert codes(real_time, seen) == [("real-time-leak", "STUN from 192.168.77.20", HOME.address)]
    rows = real_time.CHECK.rows(BEFORE, AFTER.with_evidence(seen))
    assert ("  from 192.168.77.20", "no answer", HOME.address) in rows


def test_a_checksum_of_icmpv6_is_the_kernels_own():
    """What the kernel fills in is what scapy computes: the message itself leaves it at nought."""
    data = echo_request(6, TOKEN, 5)
    packet = IPv6(bytes(IPv6(src="2001:db8::1", dst="2001:db8::2") / ICMPv6EchoRequest(id=5, seq=1, data=data[8:])))
    assert data[2:4] == b"\0\0" and bytes(packet[ICMPv6EchoRequest])[4:] == data[4:]
