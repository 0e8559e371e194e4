"""Every algorithm of the registry that is implemented: published vectors, and each suite from end to end."""

from __future__ import annotations

import hmac
import re

import pytest
from cryptography.hazmat.primitives.ciphers.aead import AESCCM, AESGCM

from support import Wire, initiator_config, responder_config
from zesty_burrow.core.crypto.integrity import INTEGRITY, PRFS, aes_cmac, aes_xcbc, prf
from zesty_burrow.core.crypto.key_exchange import (
    CURVES,
    METHODS,
    MODP,
    Curve448,
    make_key_agreement,
    modp_prime,
)
from zesty_burrow.core.crypto.protection import key_sizes, make_protection
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, BY_NUMBER, TransformType
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Negotiated
from zesty_burrow.protocols.ikev2.wire.offer import Offer

T = TransformType
KEY = bytes(range(16))


def hexa(text):
    return bytes.fromhex(re.sub(r"\s", "", text))


@pytest.mark.parametrize(
    ("message", "output"),
    [
        (b"", "75f0251d528ac01c4573dfd584d79f29"),
        (bytes(range(3)), "5b376580ae2f19afe7219ceef172756f"),
        (bytes(range(16)), "d2a246fa349b68a79998a4394ff7a263"),
        (bytes(range(20)), "47f51b4564966215b8985c63055ed308"),
        (bytes(range(32)), "f54f0ec8d2b9f3d36807734bd5283fd4"),
        (bytes(range(34)), "becbb3bccdb518a30677d5481fb6b4d8"),
        (bytes(1000), "f0dafee895db30253761103b5d84528f"),
    ],
)
def test_aes_xcbc(message, output):
    """RFC 3566 §4.6, cases 1 to 7; the check value is the first 12 octets."""
    assert aes_xcbc(KEY, message).hex() == output
    assert INTEGRITY[5].check_value(KEY, message).hex() == output[:24]


@pytest.mark.parametrize(
    ("number", "key", "output"),
    [
        (4, KEY, "47f51b4564966215b8985c63055ed308"),
        (4, KEY[:10], "0fa087af7d866e7653434e602fdde835"),
        (4, KEY + b"\xed\xcb", "8cd3c93ae598a9803006ffb67c40e9e4"),
        (8, KEY + b"\xed\xcb", "84a348a4a45d235babfffc0d2b4da09a"),
        (8, KEY, "980ae87b5f4c9c5214f5b6a8455e4c2d"),
        (8, KEY[:10], "290d9e112edb09ee141fcf64c0b72f3d"),
    ],
)
def test_pseudorandom_functions(number, key, output):
    """RFC 4434 §2.1 and RFC 4615 §4: keys of 10, 16 and 18 octets."""
    assert prf(number, key, bytes(range(20))).hex() == output


CMAC_MESSAGE = hexa(
    "6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e5130c81c46a35ce411e5fbc1191a0a52eff69f2445df4f9b17ad2b417be66c3710"
)


@pytest.mark.parametrize(
    ("size", "output"),
    [
        (0, "bb1d6929e95937287fa37d12"),
        (16, "070a16b46b4d4144f79bdd9d"),
        (40, "dfa66747de9ae63030ca3261"),
        (64, "51f0bebf7e3b9d92fc497417"),
    ],
)
def test_aes_cmac(size, output):
    """RFC 4494 §5."""
    key = hexa("2b7e151628aed2a6abf7158809cf4f3c")
    assert INTEGRITY[8].check_value(key, CMAC_MESSAGE[:size]).hex() == output
    assert aes_cmac(key, CMAC_MESSAGE[:size]).hex().startswith(output)


@pytest.mark.parametrize(
    ("number", "key", "message", "output"),
    [
        (2, b"\x0b" * 20, b"Hi There", "b617318655057264e28bc0b6"),
        (2, b"Jefe", b"what do ya want for nothing?", "effcdf6ae5eb2fa2d27416d5"),
        (13, b"\x0b" * 48, b"Hi There", "b6a8d5636f5c6a7224f9977dcf7ee6c7fb6d0c48cbdee973"),
        (14, b"\x0b" * 64, b"Hi There", "637edc6e01dce7e6742a99451aae82df23da3e92439e590e43e761b33e910fb8"),
    ],
)
def test_hmac_check_values(number, key, message, output):
    """RFC 2202 §3 (cut as RFC 2404 says) and RFC 4868 §2.7.2.2, §2.7.2.3."""
    assert INTEGRITY[number].check_value(key, message).hex() == output


def test_chacha20_poly1305():
    """RFC 7634 appendix A: the whole ESP packet."""
    source = hexa(
        "45000054a6f200004001e778c6336405c000020508005b7a3a080000553bec10000736270809"
        "0a0b0c0d0e0f101112131415161718191a1b1c1d1e1f202122232425262728292a2b2c2d2e2f3031323334353637"
    )
    packet = hexa(
        "0102030400000005101112131415161724039428b97f417e3c13753a4f05087b67c352e6a7fab1b982d466ef407ae5c614ee8099d52844eb"
        "61aa95dfab4c02f72aa71e7c4c4f64c9befe2facc638e8f3cbec163fac469b502773f6fb94e664da9165b82829f641e076aaa8266b7fb0f7b11b369907e1ad43"
    )
    inbound = InboundSa(0x01020304, make_protection(28, bytes(range(0x80, 0xA4)), b"", bytes))
    assert inbound.open(packet) == source
    protection = make_protection(28, bytes(range(0x80, 0xA4)), b"", bytes)
    assert protection.seal(packet[:8], source + b"\1\2\2\4", number=0x1011121314151617) == packet[8:]


@pytest.mark.parametrize(
    ("key", "nonce", "iv", "plain", "cipher"),
    [
        ("AE6852F8121067CC4BF7A5765577F39E", "00000030", "0000000000000000", b"Single block msg".hex(), "E4095D4FB7A7B3792D6175A3261311B8"),
    ],
)  # fmt: skip
def test_aes_ctr(key, nonce, iv, plain, cipher):
    """RFC 3686 §6, vector 1: the cipher inside the protection."""
    protection = make_protection(13, hexa(key + nonce), b"i" * 32, bytes, 12)
    sealed = hexa(iv) + hexa(cipher)
    sealed += hmac.digest(b"i" * 32, sealed, "sha256")[:16]
    assert protection.open(b"", sealed) == hexa(plain)
    again = protection.seal(b"", hexa(plain))
    assert again[:8] == bytes(7) + b"\1" and protection.open(b"", again) == hexa(plain)


@pytest.mark.parametrize(("number", "icv"), [(14, 8), (15, 12), (16, 16)])
def test_aes_ccm_against_the_library(number, icv):
    """RFC 4309 §4: nonce of three octets of salt and the IV."""
    protection = make_protection(number, b"k" * 16 + b"sal", b"", bytes)
    sealed = protection.seal(b"header", b"plain text")
    assert sealed[8:] == AESCCM(b"k" * 16, icv).encrypt(b"sal" + sealed[:8], b"plain text", b"header")
    assert protection.icv_size == icv


@pytest.mark.parametrize(("number", "icv"), [(18, 8), (19, 12)])
def test_short_check_values_of_gcm(number, icv):
    """RFC 4106 §6: the first octets of the whole check value."""
    protection = make_protection(number, b"k" * 16 + b"salt", b"", bytes)
    sealed = protection.seal(b"header", b"plain text")
    whole = AESGCM(b"k" * 16).encrypt(b"salt" + sealed[:8], b"plain text", b"header")
    assert sealed[8:] == whole[: 10 + icv]


CIPHERS = [entry for entry in ALGORITHMS if entry.type is T.ENCR and entry.usable]
CHECKS = [entry.number for entry in ALGORITHMS if entry.type is T.INTEG and entry.usable]
PAIRS = [
    (entry.number, bits, check)
    for entry in CIPHERS
    for bits in entry.bits or (0,)
    for check in ([0] if entry.number in AEAD_NUMBERS else CHECKS)
]


@pytest.mark.parametrize(("cipher", "bits", "check"), PAIRS)
def test_every_protection(cipher, bits, check):
    """Whatever is sealed is opened by the other end alone; each changed octet is noticed; nonces never repeat."""
    size, check_size = key_sizes(cipher, bits, check)
    one, two = (
        make_protection(cipher, b"k" * size, b"i" * check_size, lambda size: b"v" * size, check) for _ in range(2)
    )
    for plain in (b"p" * 48, b"q" * 160):
        sealed = one.seal(b"header", plain)
        assert len(sealed) == len(plain) + one.overhead
        assert two.open(b"header", sealed) == plain
        for position in (0, one.iv_size, len(sealed) - 1):
            changed = sealed[:position] + bytes([sealed[position] ^ 1]) + sealed[position + 1 :]
            with pytest.raises(Malformed):
                two.open(b"header", changed)
        for cut in (0, 1, one.overhead - 1, len(sealed) - 1):
            with pytest.raises(Malformed):
                two.open(b"header", sealed[:cut])
        with pytest.raises(Malformed):
            two.open(b"other!", sealed)
    if cipher != 12:
        assert one.seal(b"", b"x" * 16)[:8] != one.seal(b"", b"x" * 16)[:8]
    elsewhere = make_protection(cipher, b"K" * size, b"I" * check_size, lambda size: b"v" * size, check)
    with pytest.raises(Malformed):
        elsewhere.open(b"header", sealed)


def test_what_is_not_implemented_is_a_fault():
    for call in (
        lambda: key_sizes(7, 128, 2),
        lambda: key_sizes(12, 128, 3),
        lambda: prf(3, b"", b""),
        lambda: make_key_agreement(1, bytes),
    ):
        with pytest.raises(ProgramFault):
            call()


def test_the_registry_and_the_code_agree():
    """Whatever the registry calls usable is implemented, and nothing else but MD5, which IKEv1 alone may be asked for."""
    usable = {kind: {entry.number for entry in ALGORITHMS if entry.type is kind and entry.usable} for kind in T}
    assert usable[T.PRF] == set(PRFS) - {1}
    assert usable[T.INTEG] == set(INTEGRITY) - {1}
    assert usable[T.KE] == METHODS
    for number, found in INTEGRITY.items():
        assert BY_NUMBER[T.INTEG, number].size == found.key_size
    for number in usable[T.PRF]:
        assert len(prf(number, b"k" * 16, b"m")) == BY_NUMBER[T.PRF, number].size


def test_curve448():
    """RFC 7748 §6.2: both public values and the shared secret; a small subgroup and another length are refused."""
    private = (
        "9a8f4925d1519f5775cf46b04b5800d4ee9ee8bae8bc5565d498c28dd9c9baf574a9419744897391006382a6f127ab1d9ac2d8c0a598726b",
        "1c306a7ac2a0e2e0990b294470cba339e6453772b075811d8fad0d1d6927c120bb5ee8972b0d3e21374c9c921b09d1b0366f10b65173992d",
    )
    alice, bob = (Curve448(lambda _, key=key: hexa(key)) for key in private)
    assert alice.public.hex().startswith("9b08f7cc31b7e3e67d22d5aea121074a273bd2b83de09c63faa73d2c")
    assert bob.public.hex().endswith("27d8b972fc3e34fb4232a13ca706dcb57aec3dae07bdc1c67bf33609")
    secret = (
        "07fff4181ac6cc95ec1c16a94a0f74d12da232ce40a77552281d282b"
        "b60c0b56fd2464c335543936521c24403085d59a449a5037514a879d"
    )
    assert alice.shared(bob.public).hex() == bob.shared(alice.public).hex() == secret
    for bad in (bytes(56), bytes(55)):
        with pytest.raises(Malformed):
            alice.shared(bad)


@pytest.mark.parametrize("group", sorted(METHODS))
def test_every_group(group):
    """Both ends agree; values of another length, off the curve, or of a small subgroup are refused."""
    one, two = (
        make_key_agreement(group, lambda size: b"\x21" * size),
        make_key_agreement(group, lambda size: b"\x43" * size),
    )
    assert len(one.public) == BY_NUMBER[T.KE, group].size
    assert one.shared(two.public) == two.shared(one.public) != one.shared(one.public)
    for bad in (b"", two.public[:-1], two.public + b"\0", bytes(len(two.public))):
        with pytest.raises(Malformed):
            one.shared(bad)
    if group in MODP:
        prime = modp_prime(group)
        for value in (1, prime - 1, prime):
            with pytest.raises(Malformed):
                one.shared(value.to_bytes(len(two.public)))
    if group in CURVES:
        with pytest.raises(Malformed):
            one.shared(two.public[:-1] + bytes([two.public[-1] ^ 1]))


@pytest.mark.parametrize(("group", "start", "end"), [
    (15, "FFFFFFFFFFFFFFFFC90FDAA22168C234", "43DB5BFCE0FD108E4B82D120A93AD2CAFFFFFFFFFFFFFFFF"),
    (16, "FFFFFFFFFFFFFFFFC90FDAA22168C234", "93B4EA988D8FDDC186FFB7DC90A6C08F4DF435C934063199FFFFFFFFFFFFFFFF"),
])  # fmt: skip
def test_the_primes(group, start, end):
    """RFC 3526 §4 and §5: as printed there, at both ends; the formula is the whole."""
    text = f"{modp_prime(group):X}"
    assert text.startswith(start)
    assert text.endswith(end)
    prime = modp_prime(group)
    assert pow(3, prime - 1, prime) == 1
    assert pow(5, (prime - 1) // 2 - 1, (prime - 1) // 2) == 1


SUITES = [
    (
        "each cipher",
        [((cipher, bits, check), 5, 31) for cipher, bits, check in PAIRS if bits in (0, 128, 256) and check in (0, 12)],
    ),
    ("each integrity", [((12, 128, check), 5, 31) for check in CHECKS]),
    ("each PRF", [((20, 128, 0), number, 31) for number in PRFS]),
    ("each group", [((20, 256, 0), 5, group) for group in METHODS]),
]


@pytest.mark.parametrize(
    ("protection", "function", "group"),
    [suite for _, suites in SUITES for suite in suites],
    ids=lambda value: "-".join(map(str, value)) if isinstance(value, tuple) else str(value),
)
def test_each_suite_back_to_back(protection, function, group):
    """Initiator and responder negotiate it for the IKE SA and the child SA, and packets go both ways."""
    cipher, bits, check = protection
    checks = (check,) if check else ()
    ike = (Offer(((cipher, bits),), checks, (function,), (group,)),)
    esp = (Offer(((cipher, bits),), checks, esn=(0,)),)
    wire = Wire(
        initiator_config(ike_offers=ike, esp_offers=esp), responder_config(ike_offers=ike, esp_offers=esp)
    ).connect()
    assert wire.error is None
    suite = wire.told(Negotiated).suite
    assert (suite.encryption, suite.key_bits, suite.integrity, suite.prf, suite.group) == (
        cipher,
        bits,
        check,
        function,
        group,
    )
    ours = wire.told(ChildEstablished)
    theirs = next(event for event in wire.gateway_events if isinstance(event, ChildEstablished))
    packet = b"\x45" + bytes(59)
    for sender, taker, of_initiator in ((ours, theirs, True), (theirs, ours, False)):
        outbound = OutboundSa(sender.spi_out, sender.keys.protection(of_initiator, bytes))
        inbound = InboundSa(taker.spi_in, taker.keys.protection(of_initiator, bytes))
        assert inbound.open(outbound.seal(packet)) == packet


def test_the_pairs_are_many():
    assert len(PAIRS) == len(set(PAIRS)) > 40
    assert {number for number, _, _ in PAIRS} == {entry.number for entry in CIPHERS}
