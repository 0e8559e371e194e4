"""An independent packet library reads our messages field by field, and its ESP opens what we seal."""

from __future__ import annotations

import hashlib
import hmac
import os

import pytest
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from scapy.contrib import ikev2
from scapy.layers.inet import IP, UDP
from scapy.layers.inet6 import IPv6
from scapy.layers.ipsec import ESP, SecurityAssociation
from scapy.packet import Raw

from support import CERTIFICATE, HOST, Wire, initiator_config, responder_config
from zesty_burrow.core.crypto.protection import make_protection
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.protocols.ikev2.events import ChildEstablished
from zesty_burrow.protocols.ikev2.wire.offer import Offer

WIDE = (
    Offer(((20, 256), (20, 128)), (), (5, 7), (31, 19)),
    Offer(((12, 256),), (12,), (5,), (14,)),
)


def plain_init():
    wire = Wire(initiator_config(ike_offers=WIDE), responder_config(ike_offers=WIDE)).connect()
    requests = [data for to_gateway, _, data in wire.seen if to_gateway]
    answers = [data for to_gateway, _, data in wire.seen if not to_gateway]
    return wire, requests, answers


def layers(packet, kind):
    found = []
    while packet:
        if isinstance(packet, kind):
            found.append(packet)
        packet = packet.payload
    return found


def test_the_first_message():
    """IKE_SA_INIT request: header, proposals with every transform, key exchange, nonce, notifications."""
    wire, requests, _ = plain_init()
    message = ikev2.IKEv2(requests[0])
    assert (message.init_SPI, message.resp_SPI) == (wire.initiator.sa.spi_i, bytes(8))
    assert (message.version, message.exch_type, int(message.flags), message.id) == (0x20, 34, 8, 0)
    assert message.length == len(requests[0])
    proposals = layers(layers(message, ikev2.IKEv2_SA)[0].prop, ikev2.IKEv2_Proposal)
    assert [(one.proposal, one.proto, one.SPIsize, one.trans_nb) for one in proposals] == [(1, 1, 0, 6), (2, 1, 0, 4)]
    rows = [
        [(row.transform_type, row.transform_id, row.key_length if row.length > 8 else 0) for row in layers(one.trans, ikev2.IKEv2_Transform)]
        for one in proposals
    ]  # fmt: skip
    assert rows == [
        [(1, 20, 256), (1, 20, 128), (2, 5, 0), (2, 7, 0), (4, 31, 0), (4, 19, 0)],
        [(1, 12, 256), (2, 5, 0), (3, 12, 0), (4, 14, 0)],
    ]
    exchange = layers(message, ikev2.IKEv2_KE)[0]
    assert (exchange.group, len(exchange.ke)) == (31, 32)
    assert layers(message, ikev2.IKEv2_Nonce)[0].nonce == wire.initiator.handshake.nonce_i
    told = {one.type: one.notify for one in layers(message, ikev2.IKEv2_Notify)}
    assert set(told) == {16388, 16389, 16406, 16430, 16431}
    there = wire.initiator.sa.spi_i + bytes(8) + bytes([198, 51, 100, 18]) + (500).to_bytes(2)
    assert told[16389] == hashlib.sha1(there).digest()
    assert told[16431] == bytes([0, 2, 0, 3, 0, 4, 0, 5])


def test_the_answer():
    """IKE_SA_INIT response: one proposal, one transform of each type, the same group."""
    wire, _, answers = plain_init()
    message = ikev2.IKEv2(answers[0])
    assert (int(message.flags), message.id, message.resp_SPI) == (0x20, 0, wire.initiator.sa.spi_r)
    chosen = layers(layers(message, ikev2.IKEv2_SA)[0].prop, ikev2.IKEv2_Proposal)
    assert len(chosen) == 1
    kinds = [row.transform_type for row in layers(chosen[0].trans, ikev2.IKEv2_Transform)]
    assert kinds == [1, 2, 4]


def test_key_derivation(monkeypatch):
    """SKEYSEED, all seven IKE keys and both ESP keys, computed with nothing but HMAC."""
    from zesty_burrow.protocols.ikev2.initiator import ike_init as module

    secrets = []
    real = module.derive_ike_keys
    monkeypatch.setattr(module, "derive_ike_keys", lambda suite, g, *rest: secrets.append(g) or real(suite, g, *rest))
    wire = Wire().connect()
    machine = wire.initiator
    nonces, spis = machine.handshake.nonce_i + machine.handshake.nonce_r, machine.sa.spi_i + machine.sa.spi_r

    def mac(key, data):
        return hmac.new(key, data, hashlib.sha256).digest()

    def stretch(key, seed, size):
        block, output, number = b"", b"", 1
        while len(output) < size:
            block = mac(key, block + seed + bytes([number]))
            output, number = output + block, number + 1
        return output[:size]

    stream = stretch(mac(nonces, secrets[0]), nonces + spis, 32 + 36 + 36 + 32 + 32)
    keys = machine.keys
    assert keys.sk_d + keys.sk_ei + keys.sk_er + keys.sk_pi + keys.sk_pr == stream
    assert (keys.sk_ai, keys.sk_ar) == (b"", b"")
    child = wire.told(ChildEstablished).keys
    assert child.encryption_i + child.encryption_r == stretch(stream[:32], nonces, 72)


def opened(wire, data, of_initiator):
    """An IKE_AUTH message decrypted without our code: AES-GCM from the library, payloads by the packet library."""
    keys = wire.initiator.keys
    key = keys.sk_ei if of_initiator else keys.sk_er
    message = data[4:]
    sealed = message[32:]
    plain = AESGCM(key[:-4]).decrypt(key[-4:] + sealed[:8], sealed[8:], message[:32])
    pad = plain[-1]
    plain = plain[: len(plain) - pad - 1]
    header = message[:16] + bytes([message[28]]) + message[17:24] + (28 + len(plain)).to_bytes(4)
    return ikev2.IKEv2(header + plain)


def test_the_sign_in_messages():
    """IKE_AUTH both ways: identities, certificate request, configuration, traffic selectors, certificate, AUTH, EAP."""
    wire, requests, answers = plain_init()
    first = opened(wire, requests[1], True)
    assert (first.exch_type, first.id) == (35, 1)
    assert f"anonymous@{HOST}".encode() == layers(first, ikev2.IKEv2_IDi)[0].ID
    assert layers(first, ikev2.IKEv2_IDi)[0].IDtype == 3
    assert HOST.encode() == layers(first, ikev2.IKEv2_IDr)[0].ID
    request = layers(first, ikev2.IKEv2_CERTREQ)[0]
    assert (request.cert_encoding, len(request.cert_authority)) == (4, 20)
    attributes = layers(first, ikev2.IKEv2_CP)[0].attributes
    assert [one.type for one in attributes] == [1, 3, 4, 8, 10, 25, 27, 28]
    selectors = layers(first, ikev2.IKEv2_TSi)[0].traffic_selector
    assert [(one.TS_type, one.starting_address_v4 if one.TS_type == 7 else one.starting_address_v6) for one in selectors] == [
        (7, "0.0.0.0"), (8, "::")]  # fmt: skip
    assert not layers(first, ikev2.IKEv2_AUTH)
    answer = opened(wire, answers[1], False)
    assert layers(answer, ikev2.IKEv2_CERT)[0].cert_encoding == 4
    assert CERTIFICATE in bytes(answer)
    assert layers(answer, ikev2.IKEv2_AUTH)[0].auth_type == 14
    last = opened(wire, requests[-1], True)
    assert layers(last, ikev2.IKEv2_AUTH)[0].auth_type == 2
    granted = opened(wire, answers[-1], False)
    assert layers(granted, ikev2.IKEv2_SA)[0].prop.SPIsize == 4
    values = [(one.type, one.value) for one in layers(granted, ikev2.IKEv2_CP)[0].attributes]
    assert values[0] == (1, "10.66.1.10") or values[0][1] == bytes([10, 66, 1, 10])


PACKETS = [
    bytes(IP(src="10.66.1.10", dst="203.0.113.10") / UDP(sport=5000, dport=53) / Raw(b"x" * size))
    for size in (0, 1, 2, 3, 17, 1300)
] + [
    bytes(IPv6(src="fd66:1::a", dst="2001:db8:b5::10") / UDP(sport=5000, dport=53) / Raw(b"y" * size))
    for size in (0, 5, 1300)
]  # fmt: skip


OUTER = IP(src="192.0.2.77", dst="198.51.100.18")


def pair(kind):
    """Our protection and the packet library's security association under the same keys."""
    key, integrity = os.urandom(32), os.urandom(32)
    shared = {"spi": 0x1234, "tunnel_header": OUTER}
    if kind == "gcm":
        theirs = SecurityAssociation(ESP, crypt_algo="AES-GCM", crypt_key=key + b"salt", **shared)
        return (lambda: make_protection(20, key + b"salt", b"", bytes)), theirs
    theirs = SecurityAssociation(
        ESP, crypt_algo="AES-CBC", crypt_key=key, auth_algo="SHA2-256-128", auth_key=integrity, **shared
    )
    return (lambda: make_protection(12, key, integrity, os.urandom, 12)), theirs


@pytest.mark.parametrize("kind", ["gcm", "cbc"])
@pytest.mark.parametrize("packet", PACKETS, ids=len)
def test_esp_both_ways(kind, packet):
    """RFC 4303, tunnel mode: what we seal the packet library opens, octet for octet; what it seals we open."""
    make, theirs = pair(kind)
    layer = IPv6 if packet[0] >> 4 == 6 else IP
    sealed = OutboundSa(0x1234, make()).seal(packet)
    assert bytes(theirs.decrypt(OUTER / ESP(sealed))) == packet
    made = theirs.encrypt(layer(packet))
    opened_packet = InboundSa(0x1234, make()).open(bytes(made[ESP]))
    # Its tunnel mode counts the hop limit down on the way in.
    assert layer(opened_packet)[UDP] == layer(packet)[UDP]
    assert (layer(opened_packet).src, layer(opened_packet).dst) == (layer(packet).src, layer(packet).dst)


@pytest.mark.parametrize("start", [5, (1 << 32) + 5, (9 << 32) - 1])
@pytest.mark.parametrize("combined", [True, False])
def test_extended_sequence_numbers(start, combined):
    """RFC 4303 §2.2.1: a judge that is told the high half opens what we seal, and we open what it seals."""
    key = bytes(range(32))
    shared = {"spi": 300, "esn_en": True}
    if combined:
        make = lambda: make_protection(20, key + b"salt", b"", bytes)  # noqa: E731
        judge = SecurityAssociation(ESP, crypt_algo="AES-GCM", crypt_key=key + b"salt", **shared)
    else:
        make = lambda: make_protection(12, key, b"i" * 32, bytes, 12)  # noqa: E731
        judge = SecurityAssociation(
            ESP, crypt_algo="AES-CBC", crypt_key=key, auth_algo="SHA2-256-128", auth_key=b"i" * 32, **shared
        )
    packet = bytes(IP(src="10.66.1.10", dst="203.0.113.10") / UDP(sport=1, dport=2) / Raw(b"inside"))
    out, into = OutboundSa(300, make(), extended=True), InboundSa(300, make(), extended=True)
    out.state.sequence = start
    into.state.highest = start
    sealed = out.seal(packet)
    outer = IP(src="192.0.2.77", dst="198.51.100.18", proto=50) / Raw(sealed)
    judge.tunnel_header = IP(src="192.0.2.77", dst="198.51.100.18")
    opened = judge.decrypt(IP(bytes(outer)), esn_en=True, esn=(start + 1) >> 32)
    assert bytes(opened) == packet
    theirs = judge.encrypt(IP(packet), seq_num=(start + 2) & 0xFFFFFFFF, esn_en=True, esn=(start + 2) >> 32)
    assert into.open(bytes(theirs[ESP])) == packet
