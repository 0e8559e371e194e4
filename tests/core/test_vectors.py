"""Published vectors: bytes that were made elsewhere."""

from __future__ import annotations

import hmac

import cryptography_vectors
import pytest
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.algorithms import AES
from cryptography.hazmat.primitives.ciphers.modes import ECB

from zesty_burrow.core.crypto.key_exchange import Curve25519, Ecp, Modp, modp_prime
from zesty_burrow.core.crypto.protection import make_protection
from zesty_burrow.core.eap import mschapv2
from zesty_burrow.core.eap.digests import des_encrypt, md4
from zesty_burrow.core.outside import stun
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.wire.keys import prf, prf_plus

hexa = bytes.fromhex


@pytest.mark.parametrize(
    ("text", "digest"),
    [
        (b"", "31d6cfe0d16ae931b73c59d7e0c089c0"),
        (b"a", "bde52cb31de33e46245e05fbdbd6fb24"),
        (b"abc", "a448017aaf21d8525fc10ae87aa6729d"),
        (b"message digest", "d9130a8164549fe818874806e1c7014b"),
        (b"abcdefghijklmnopqrstuvwxyz", "d79e1c308aa5bbcdeea8ed63df412da9"),
        (
            b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789",
            "043f8582f241db351ce627e153e7f0e4",
        ),
        (b"1234567890" * 8, "e33b4ddc9c38f2199c3e7b164fcc0536"),
    ],
)
def test_md4(text, digest):
    """RFC 1320 §A.5."""
    assert md4(text).hex() == digest


def test_mschapv2():
    """RFC 2759 §9.2: every intermediate value."""
    theirs, ours = hexa("5B5D7C7D7B3F2F3E3C2C602132262628"), hexa("21402324255E262A28295F2B3A337C7E")
    assert mschapv2.challenge_hash(ours, theirs, b"User").hex() == "d02e4386bce91226"
    hashes = mschapv2.Hashes.of("clientPass")
    assert hashes.once.hex() == "44ebba8d5312b8d611474411f56989ae"
    assert hashes.twice.hex() == "41c00c584bd2d91c4017a2a12fa59f3f"
    response = mschapv2.nt_response(theirs, ours, b"User", hashes)
    assert response.hex() == "82309ecd8d708b5ea08faa3981cd83544233114a3d85d6df"
    text = mschapv2.authenticator_response(hashes, response, ours, theirs, b"User")
    assert text == "S=407A5589115FD0D6209F510FE9C04566932CDA56"
    assert mschapv2.challenge_hash(ours, theirs, rb"BIRDS\User") == mschapv2.challenge_hash(ours, theirs, b"User")


def test_mschapv2_session_key():
    """RFC 3079 §3.5.3: the send and receive start keys of the same exchange; the gateway's receive key is first."""
    key = mschapv2.session_key(
        mschapv2.Hashes.of("clientPass"), hexa("82309ecd8d708b5ea08faa3981cd83544233114a3d85d6df")
    )
    # The appendix gives the server's send key, 8B7CDC14…; it is the second half here.
    assert key[16:32].hex() == "8b7cdc149b993a1ba118cb153f56dccb"
    assert len(key) == 64
    assert key[32:] == bytes(32)


def test_des_key_spreading():
    """RFC 2759 §8.6 by way of §9.2: the first third of the response."""
    assert des_encrypt(hexa("44ebba8d5312b8"), hexa("d02e4386bce91226")).hex() == "82309ecd8d708b5e"


def test_curve25519():
    """RFC 7748 §6.1."""
    alice = Curve25519(lambda size: hexa("77076d0a7318a57d3c16c17251b26645df4c2f87ebc0992ab177fba51db92c2a"))
    bob = Curve25519(lambda size: hexa("5dab087e624a8a4b79e17f8b83800ee66f3bb1292618b6fd1c2f8b27ff88e0eb"))
    assert alice.public.hex() == "8520f0098930a754748b7ddcb43ef75a0dbf3a0d26381af4eba4a98eaa9b4e6a"
    assert bob.public.hex() == "de9edb7d7b7dc1b4d35b61c2ece435373f8343c85b78674dadfc7e146f882b4f"
    secret = "4a5d9d5ba4ce2de1728e3bf480350f25e07e21c947d19e3376f09b3c1e161742"
    assert alice.shared(bob.public).hex() == secret == bob.shared(alice.public).hex()


def test_curve25519_refuses_a_small_subgroup():
    """RFC 7748 §6.1, RFC 8031 §2.3: an all-zero result is refused."""
    with pytest.raises(Malformed):
        Curve25519(lambda size: bytes(range(size))).shared(bytes(32))


def test_ecp256():
    """RFC 5903 §8.1: keys, payload data and the shared secret."""
    private = {
        "i": 0xC88F01F510D9AC3F70A292DAA2316DE544E9AAB8AFE84049C62A9C57862D1433,
        "r": 0xC6EF9C5D78AE012A011164ACB397CE2088685D8F06BF9BE0B283AB46476BEE53,
    }
    one, two = (Ecp(19, lambda size, k=key: (k - 1).to_bytes(size)) for key in private.values())
    assert one.public.hex() == (
        "dad0b65394221cf9b051e1feca5787d098dfe637fc90b9ef945d0c3772581180"
        "5271a0461cdb8252d61f1c456fa3e59ab1f45b33accf5f58389e0577b8990bb3"
    )
    secret = "d6840f6b42f6edafd13116e0e12565202fef8e9ece7dce03812464d04b9442de"
    assert one.shared(two.public).hex() == secret == two.shared(one.public).hex()


def scaled_pi(bits):
    """pi * 2**bits by Machin's formula, in whole numbers."""
    one = 1 << bits + 32

    def arctan_of_one_over(x):
        term = total = one // x
        for number in range(1, bits):
            term //= -x * x
            total += term // (2 * number + 1)
        return total

    return 4 * (4 * arctan_of_one_over(5) - arctan_of_one_over(239)) >> 32


def test_modp_2048():
    """RFC 3526 §3: the prime follows from its formula, is safe, and both sides agree."""
    assert 2**2048 - 2**1984 - 1 + 2**64 * ((scaled_pi(2100) >> 2100 - 1918) + 124476) == modp_prime(14)
    one, two = Modp(14, lambda size: b"\x11" * size), Modp(14, lambda size: b"\x77" * size)
    assert one.shared(two.public) == two.shared(one.public)
    for bad in (0, 1, modp_prime(14) - 1, modp_prime(14)):
        with pytest.raises(Malformed):
            one.shared(bad.to_bytes(256))


@pytest.mark.parametrize(
    ("number", "key", "data", "output"),
    [
        (5, "0b" * 32, "4869205468657265", "198a607eb44bfbc69903a0f1cf2bbdc5ba0aa3f3d9ae3c1c7a3b1696a0b68cf7"),
        (
            5,
            "4a656665" * 8,
            "7768617420646f2079612077616e7420666f72206e6f7468696e673f",
            "167f928588c5cc2eef8e3093caa0e87c9ff566a14794aa61648d81621a2a40c6",
        ),
        (
            6,
            "4a656665",
            "7768617420646f2079612077616e7420666f72206e6f7468696e673f",
            "af45d2e376484031617f78d2b58a6b1b9c7ef464f5a01b47e42ec3736322445e8e2240ca5e69e2c78b3239ecfab21649",
        ),
        (
            7,
            "4a656665",
            "7768617420646f2079612077616e7420666f72206e6f7468696e673f",
            "164b7a7bfcf819e2e395fbe73b56e0a387bd64222e831fd610270cd7ea250554"
            "9758bf75c05a994a6d034f65f8f0e6fdcaeab1a34d4a6b4b636e070a38bce737",
        ),
    ],
)
def test_prf(number, key, data, output):
    """RFC 4868 §2.7.2 for SHA-256, RFC 4231 §4.3 for the others."""
    assert prf(number, hexa(key), hexa(data)).hex() == output


def test_prf_plus_is_a_chain():
    """RFC 7296 §2.13: T1 = prf(K, S | 1), T2 = prf(K, T1 | S | 2)."""
    key, seed = b"k" * 32, b"seed"
    first = hmac.digest(key, seed + b"\x01", "sha256")
    second = hmac.digest(key, first + seed + b"\x02", "sha256")
    assert prf_plus(5, key, seed, 50) == (first + second)[:50]


def gcm_vectors(bits):
    """NIST's decryption vectors with nonces of 96 bits and tags of 128."""
    with cryptography_vectors.open_vector_file(f"ciphers/AES/GCM/gcmDecrypt{bits}.rsp", "r") as stream:
        sizes, row = {}, {}
        for line in map(str.strip, stream):
            if line.startswith("["):
                name, _, value = line.strip("[]").partition(" = ")
                sizes[name] = value
            elif line == "FAIL":
                row["FAIL"] = "yes"
            elif " = " in line or line.endswith("="):
                name, _, value = line.partition(" =")
                row[name] = value.strip()
            elif not line and row:
                if sizes.get("IVlen") == "96" and sizes.get("Taglen") == "128":
                    yield row
                row = {}


@pytest.mark.parametrize("bits", [128, 256])
def test_aes_gcm(bits):
    """NIST SP 800-38D vectors, good ones and forged ones; the nonce is our salt and IV together (RFC 4106 §4)."""
    good = forged = 0
    for row in gcm_vectors(bits):
        nonce = hexa(row["IV"])
        protection = make_protection(20, hexa(row["Key"]) + nonce[:4], b"", bytes)
        sealed = nonce[4:] + hexa(row["CT"]) + hexa(row["Tag"])
        if "FAIL" in row:
            forged += 1
            with pytest.raises(Malformed):
                protection.open(hexa(row["AAD"]), sealed)
        else:
            good += 1
            assert protection.open(hexa(row["AAD"]), sealed) == hexa(row["PT"])
    assert good > 100
    assert forged > 50


@pytest.mark.parametrize(
    ("key", "iv", "plaintext", "ciphertext"),
    [
        (
            "06a9214036b8a15b512e03d534120006",
            "3dafba429d9eb430b422da802c9fac41",
            b"Single block msg".hex(),
            "e353779c1079aeb82708942dbe77181a",
        ),
        (
            "6c3ea0477630ce21a2ce334aa746c2cd",
            "c782dc4c098c66cbd9cd27d825682c81",
            b"This is a 48-byte message (exactly 3 AES blocks)".hex(),
            "d0a02b3836451753d493665d33f0e8862dea54cdb293abc7506939276772f8d5021c19216bad525c8579695d83ba2684",
        ),
    ],
)
def test_aes_cbc(key, iv, plaintext, ciphertext):
    """RFC 3602 §4, cases 1 and 3; the ICV is HMAC-SHA2-256-128 over what stands in front of it.

    The IV is what the cipher makes of something random: here of what it makes the vector's IV of.
    """
    before = Cipher(AES(hexa(key)), ECB()).decryptor().update(hexa(iv))
    protection = make_protection(12, hexa(key), b"i" * 32, lambda size: before, 12)
    sealed = protection.seal(b"head", hexa(plaintext))
    assert sealed[:-16].hex() == iv + ciphertext
    assert sealed[-16:] == hmac.digest(b"i" * 32, b"head" + sealed[:-16], "sha256")[:16]
    assert protection.open(b"head", sealed) == hexa(plaintext)
    with pytest.raises(Malformed):
        protection.open(b"heaD", sealed)
    again = protection.seal(b"head", hexa(plaintext))
    assert again[:16] != sealed[:16] and protection.open(b"head", again) == hexa(plaintext)
    assert protection.open(b"head", sealed) == hexa(plaintext)


@pytest.mark.parametrize(
    ("message", "address"),
    [
        (
            "0101003c2112a442b7e7a701bc34d686fa87dfae8022000b7465737420766563746f7220002000080001a147e112a643"
            "000800142b91f599fd9e90c38c7489f92af9ba53f06be7d780280004c07d4c96",
            "192.0.2.1",
        ),
        (
            "010100482112a442b7e7a701bc34d686fa87dfae8022000b7465737420766563746f7220002000140002a147"
            "0113a9faa5d3f179bc25f4b5bed2b9d900080014a382954e4be67bf11784c97c8292c275bfe3ed4180280004c8fb0b4c",
            "2001:db8:1234:5678:11:2233:4455:6677",
        ),
    ],
)
def test_stun_response(message, address):
    """RFC 5769 §2.2 and §2.3: address, port and fingerprint; a changed octet is noticed."""
    transaction = hexa("b7e7a701bc34d686fa87dfae")
    assert stun.read_response_untrusted(hexa(message), transaction) == (address, 32853)
    spoiled = bytearray(hexa(message))
    spoiled[30] ^= 1
    with pytest.raises(Malformed):
        stun.read_response_untrusted(bytes(spoiled), transaction)


def test_x25519_matches_the_library():
    """Both directions agree with a plain call of the library."""
    agreement = Curve25519(lambda size: b"\x21" * size)
    other = X25519PrivateKey.generate()
    other_public = other.public_key().public_bytes_raw()
    expected = other.exchange(X25519PublicKey.from_public_bytes(agreement.public))
    assert agreement.shared(other_public) == expected
