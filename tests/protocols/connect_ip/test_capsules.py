"""What travels: variable-length integers, capsules, addresses, routes, paths; by octets that were not made here."""

from __future__ import annotations

from ipaddress import ip_interface

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.packets.varint import MOST, read_varint, write_varint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.connect_ip.machine.tunnel import TunnelEnd
from zesty_burrow.protocols.connect_ip.wire.capsules import (
    AddressEntry,
    CapsuleReader,
    CapsuleType,
    Route,
    no_address,
    read_addresses,
    read_payload,
    read_routes,
    write_addresses,
    write_capsule,
    write_packet,
    write_routes,
)
from zesty_burrow.protocols.connect_ip.wire.template import WELL_KNOWN, check_template, expand, scope_of


@pytest.mark.parametrize(
    ("octets", "value"),
    [("c2197c5eff14e88c", 151288809941952652), ("9d7f3e7d", 494878333), ("7bbd", 15293), ("25", 37), ("4025", 37)],
)
def test_integers_of_the_rfc(octets, value):
    """RFC 9000 §A.1; the last one is longer than it has to be."""
    data = bytes.fromhex(octets)
    assert read_varint(data, 0) == (value, len(data))
    assert read_varint(data[:-1], 0) == (-1, 0)
    assert octets == "4025" or write_varint(value) == data


@given(st.integers(0, MOST), st.binary(max_size=3))
def test_integers(value, before):
    """As few octets as possible, and the same back, wherever it is."""
    data = write_varint(value)
    assert read_varint(before + data + b"x", len(before)) == (value, len(before) + len(data))
    shorter = {2: 1 << 6, 4: 1 << 14, 8: 1 << 30}.get(len(data), 0)
    assert value >= shorter


@pytest.mark.parametrize("value", [-1, MOST + 1])
def test_integers_that_do_not_fit(value):
    with pytest.raises(ValueError, match="62 bits"):
        write_varint(value)


ASSIGN = bytes.fromhex("01 07 00 04 c0000201 20")
"""ADDRESS_ASSIGN of 192.0.2.1/32, request ID 0: type, length, then as RFC 9484 §4.7.1 lays it out."""
REQUEST = bytes.fromhex("02 1a 01 04 00000000 20 02 06 00000000000000000000000000000000 80")
"""ADDRESS_REQUEST: any IPv4 address under ID 1, any IPv6 address under ID 2."""
ROUTES = bytes.fromhex("03 14 04 c6336400 c63364ff 00 04 cb007100 cb0071ff 00")
"""ROUTE_ADVERTISEMENT: 198.51.100.0/24 and 203.0.113.0/24, every protocol."""
PACKET = bytes.fromhex("00 05 00 45 00 00 14")
"""A DATAGRAM capsule: context 0, then the first octets of an IPv4 packet."""


def test_capsules_by_hand():
    """The octets of the figures are what is read and what is written."""
    found = CapsuleReader().feed(ASSIGN + REQUEST + ROUTES + PACKET)
    assert [kind for kind, _ in found] == [1, 2, 3, 0]
    assert read_addresses(found[0][1], asked=False) == [AddressEntry(0, ip_interface("192.0.2.1/32"))]
    assert read_addresses(found[1][1], asked=True) == [AddressEntry(1, no_address(4)), AddressEntry(2, no_address(6))]
    routes = [Route(AddressRange(bytes((198, 51, 100, 0)), bytes((198, 51, 100, 255)))),
              Route(AddressRange(bytes((203, 0, 113, 0)), bytes((203, 0, 113, 255))))]  # fmt: skip
    assert read_routes(found[2][1]) == routes
    assert read_payload(found[3][1]) == bytes.fromhex("45000014")
    assert write_addresses(CapsuleType.ADDRESS_ASSIGN, [AddressEntry(0, ip_interface("192.0.2.1/32"))]) == ASSIGN
    assert (
        write_addresses(CapsuleType.ADDRESS_REQUEST, [AddressEntry(1, no_address(4)), AddressEntry(2, no_address(6))])
        == REQUEST
    )
    assert write_routes(routes[::-1]) == ROUTES
    assert write_packet(bytes.fromhex("45000014")) == PACKET


@pytest.mark.parametrize("cut", range(1, len(ASSIGN + REQUEST + ROUTES + PACKET)))
def test_every_cut(cut):
    """Wherever the stream is cut, the same capsules come of it; nothing is left over."""
    whole = ASSIGN + write_capsule(0x17, b"skipped") + REQUEST + ROUTES + PACKET
    reader = CapsuleReader()
    assert [kind for kind, _ in reader.feed(whole[:cut]) + reader.feed(whole[cut:])] == [1, 2, 3, 0]
    assert reader.is_between


def test_unknown_types_are_skipped_and_not_kept():
    """RFC 9297 §3.2: a capsule of an unknown type may be as long as it likes."""
    reader = CapsuleReader()
    begin = write_varint(0x1234) + write_varint(1 << 40)
    assert reader.feed(begin) == []
    for _ in range(64):
        assert reader.feed(bytes(1 << 16)) == []
    assert not reader.is_between
    other = CapsuleReader()
    assert other.feed(write_capsule(0x29 * 7 + 0x17, bytes(70000)) + PACKET)[0][0] is CapsuleType.DATAGRAM


@pytest.mark.parametrize("kind", [0, 1, 2, 3])
def test_too_long_a_capsule(kind):
    """Told by its length alone, before anything of it is kept."""
    with pytest.raises(Malformed, match="announces"):
        CapsuleReader().feed(write_varint(kind) + write_varint(1 << 20))


@pytest.mark.parametrize(
    ("octets", "asked", "why"),
    [
        ("00 05 c0000201 20", False, "version"),
        ("00 04 c00002", False, "length"),
        ("00 04 c0000201 21", False, "33 bits"),
        ("00 04 c0000201 18", False, "bits below"),
        ("00 04 00000000 20", True, "request ID"),
        ("", True, "nothing"),
        ("40", False, "request ID"),
    ],
)
def test_addresses_that_are_none(octets, asked, why):
    with pytest.raises(Malformed, match="malformed") as caught:
        read_addresses(bytes.fromhex(octets), asked=asked)
    assert why in caught.value.why


@pytest.mark.parametrize(
    ("octets", "why"),
    [
        ("05 c0000201 c0000201 00", "version"),
        ("04 c0000202 c0000201 00", "above"),
        ("04 c0000200 c0000210 00 04 c0000210 c0000220 00", "overlaps"),
        ("04 c0000200 c0000210 06 04 c0000200 c0000210 00", "order"),
        ("06 " + "00" * 33 + "04 c0000200 c0000210 00", "order"),
        ("04 c0000200 c0000210", "length"),
    ],
)
def test_routes_that_are_none(octets, why):
    """RFC 9484 §4.7.3: order and overlap are held; the same addresses for another protocol are another range."""
    with pytest.raises(Malformed) as caught:
        read_routes(bytes.fromhex(octets))
    assert why in caught.value.why


def test_routes_of_one_protocol_are_no_way_for_all():
    """What is advertised for TCP alone would lose everything else: nothing is sent there."""
    end = TunnelEnd()
    assert end.feed(write_routes([Route(AddressRange(bytes(4), bytes(4)), 6)]))
    assert end.routes == ()


@given(st.binary(max_size=200))
def test_arbitrary_octets(data):
    """A stranger's stream: capsules, or one error; never another exception."""
    end = TunnelEnd()
    try:
        end.feed(data)
    except Malformed:
        return
    assert all(isinstance(packet, bytes) for packet in end.take_packets())


def test_an_assignment_replaces_the_one_before():
    """RFC 9484 §4.7.1; a refusal is no address, and answers its request."""
    end = TunnelEnd()
    end.feed(ASSIGN)
    assert end.assigned == (ip_interface("192.0.2.1/32"),)
    end.feed(write_addresses(CapsuleType.ADDRESS_ASSIGN, [AddressEntry(3, no_address(6))]))
    assert (end.assigned, end.answered) == ((), {0, 3})


@pytest.mark.parametrize(
    ("template", "target", "path"),
    [
        (WELL_KNOWN, "*", "/.well-known/masque/ip/*/*/"),
        (WELL_KNOWN, "198.51.100.0/24", "/.well-known/masque/ip/198.51.100.0%2F24/*/"),
        ("/tunnel{?target,ipproto}", "2001:db8::/32", "/tunnel?target=2001%3Adb8%3A%3A%2F32&ipproto=*"),
        ("/fixed", "*", "/fixed"),
    ],
)
def test_paths(template, target, path):
    """RFC 9484 §3, §4.6 and its examples of a network; a gateway reads the same back."""
    assert check_template(template) == ""
    assert expand(template, target) == path
    assert scope_of(path, template) == (target if "{" in template else "*", "*")
    assert scope_of(path + "/x", template) is None


@pytest.mark.parametrize("template", ["", "no-slash", "/a b", "/{user}", "/{target}{target}", "/\n", "/" + "x" * 1024])
def test_paths_that_are_none(template):
    assert check_template(template)
