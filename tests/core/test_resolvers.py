"""Encrypted resolvers that a gateway announces (RFC 9464), their service parameters judged by dnspython."""

from dataclasses import replace
from ipaddress import ip_address

import dns.rdata
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.dns.encrypted_resolver import TRANSPORTS, EncryptedResolver, read_encrypted_resolver
from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.ikev2.machine.negotiation import address_request, read_inner_network
from zesty_burrow.protocols.ikev2.wire.payloads import Configuration
from zesty_burrow.protocols.ikev2.wire.registry import ConfigAttribute, ConfigType

OFFICE = EncryptedResolver(
    3, "resolver.office.tidewrack.example", (ip_address("10.20.0.53"), ip_address("10.20.0.54")), ("dot", "h2"), 8443
)
HEAD = b"\x00\x01\x01\x07" + bytes((10, 20, 0, 53)) + b"a.b.cde"
"""Priority 1, one address, a name of seven octets."""


def svcb(parameters: bytes):
    """Service parameters as dnspython reads them behind a SVCB record's priority and target (RFC 9460 §2.2)."""
    octets = b"\x00\x01\x00" + parameters
    return dns.rdata.from_wire("IN", "SVCB", octets, 0, len(octets)).params


def wire(text: str) -> bytes:
    """Service parameters as dnspython writes them from their presentation form."""
    return dns.rdata.from_text("IN", "SVCB", f"1 . {text}").to_wire()[3:]


def test_the_layout_octet_by_octet():
    """RFC 9464 §3.1: priority, number of addresses, length of the name, addresses, name, service parameters."""
    value = replace(OFFICE, addresses=OFFICE.addresses[:1], transports=("dot",), port=0).encode()
    name = b"resolver.office.tidewrack.example"
    assert value == b"\x00\x03\x01" + bytes((len(name), 10, 20, 0, 53)) + name + b"\x00\x01\x00\x04\x03dot"


def test_what_we_write_another_library_reads():
    written = replace(OFFICE, path="/dns-query{?dns}").encode()
    found = svcb(written[4 + 8 + len(OFFICE.name) :])
    assert found[1].ids == (b"dot", b"h2")
    assert found[3].port == 8443
    assert found[7].value == b"/dns-query{?dns}"


@pytest.mark.parametrize(
    ("parameters", "transports", "port", "path"),
    [
        ('alpn="dot"', ("dot",), 0, ""),
        ('alpn="doq,dot" port="8853"', ("doq", "dot"), 8853, ""),
        ('alpn="h2,h3" key7="/q{?dns}"', ("h2", "h3"), 0, "/q{?dns}"),
        ('mandatory="alpn,port" alpn="dot" port="853"', ("dot",), 853, ""),
        ('alpn="smoke,dot"', ("dot",), 0, ""),
        ('alpn="dot" key667="whatever"', ("dot",), 0, ""),
    ],
)
def test_what_another_library_wrote(parameters, transports, port, path):
    found = read_encrypted_resolver(HEAD + wire(parameters), 4)
    assert found == EncryptedResolver(1, "a.b.cde", (ip_address("10.20.0.53"),), transports, port, path)


@pytest.mark.parametrize(
    "value",
    [
        b"",
        HEAD,
        HEAD[:9],
        b"\x00\x00" + HEAD[2:] + wire('alpn="dot"'),
        b"\x00\x01\x00\x07a.b.cde" + wire('alpn="dot"'),
        b"\x00\x01\x01\x00" + bytes((10, 20, 0, 53)) + wire('alpn="dot"'),
        b"\x00\x01\x01\x07" + bytes((127, 0, 0, 1)) + b"a.b.cde" + wire('alpn="dot"'),
        b"\x00\x01\x01\x07" + bytes((10, 20, 0, 53)) + b"a.b\ncde" + wire('alpn="dot"'),
        HEAD + wire('alpn="smoke"'),
        HEAD + wire('alpn="dot" ipv4hint="10.20.0.54"'),
        HEAD + wire('mandatory="key667" alpn="dot" key667="x"'),
        HEAD + wire('port="853"') + wire('alpn="dot"'),
        HEAD + wire('alpn="dot"') + wire('alpn="dot"'),
        HEAD + wire('alpn="dot"')[:-1],
        HEAD + wire('alpn="h2"') + b"\x00\x07\x00\x02/\xff",
        HEAD + wire('alpn="h2"') + b"\x00\x07\x00\x02/\x1b",
    ],
)
def test_what_may_not_be_used(value):
    assert read_encrypted_resolver(value, 4) is None


names = st.lists(st.from_regex(r"[a-z0-9]([a-z0-9-]{0,20}[a-z0-9])?", fullmatch=True), min_size=1, max_size=4)


@given(
    priority=st.integers(1, 65535),
    name=names.map(".".join),
    addresses=st.lists(st.integers(1, 255), min_size=1, max_size=5),
    transports=st.lists(st.sampled_from(sorted(TRANSPORTS)), min_size=1, unique=True),
    port=st.integers(0, 65535),
    version=st.sampled_from([4, 6]),
)
def test_there_and_back(priority, name, addresses, transports, port, version):
    stem = "192.0.2." if version == 4 else "2001:db8::"
    chosen = tuple(ip_address(f"{stem}{one}") for one in addresses)
    resolver = EncryptedResolver(priority, name, chosen, tuple(transports), port)
    assert read_encrypted_resolver(resolver.encode(), version) == resolver


@given(st.binary(max_size=80), st.sampled_from([4, 6]))
def test_a_strangers_octets(value, version):
    found = read_encrypted_resolver(value, version)
    assert found is None or (found.priority and found.addresses and set(found.transports) <= TRANSPORTS.keys())


def test_asked_for_and_sorted():
    """Both families are asked for with empty values; the lowest priority comes first, the unusable are left out."""
    asked = address_request([AddressRange(bytes(size), b"\xff" * size) for size in (4, 16)])
    assert asked.values(ConfigAttribute.ENCDNS_IP4) == asked.values(ConfigAttribute.ENCDNS_IP6) == [b""]
    only6 = address_request([AddressRange(bytes(16), b"\xff" * 16)])
    assert not only6.values(ConfigAttribute.ENCDNS_IP4)
    over6 = EncryptedResolver(1, "six.example", (ip_address("2001:db8::53"),), ("doq",))
    reply = Configuration(
        ConfigType.CFG_REPLY,
        (
            (ConfigAttribute.ENCDNS_IP4, OFFICE.encode()),
            (ConfigAttribute.ENCDNS_IP4, b"\x00"),
            (ConfigAttribute.ENCDNS_IP6, over6.encode()),
        ),
    )
    assert read_inner_network(reply).encrypted_resolvers == (over6, OFFICE)
    assert str(OFFICE) == (
        "resolver.office.tidewrack.example by DNS over TLS (port 8443) or DNS over HTTPS (port 8443)"
        " at 10.20.0.53, 10.20.0.54"
    )
