"""Key exchange methods: curve25519 and curve448 (RFC 8031), ECP groups (RFC 5903), MODP groups (RFC 3526), ML-KEM.

Private values come from octets that are handed in, so that runs can be repeated in tests.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from functools import lru_cache
from typing import Any

from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.mlkem import MLKEM768PrivateKey, MLKEM768PublicKey
from cryptography.hazmat.primitives.asymmetric.x448 import X448PrivateKey, X448PublicKey
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.errors import Malformed, ProgramFault

MODP: dict[int, tuple[int, int, int]] = {
    2: (1024, 129093, 256),
    5: (1536, 741804, 256),
    14: (2048, 124476, 320),
    15: (3072, 1690314, 432),
    16: (4096, 240904, 512),
}
"""RFC 3526 §2 to §5 by group: bits, the number in the prime's formula, and the bits of an exponent (§8).

Groups 2 (RFC 2409 §6.2) and 5 are there for IKEv1, where an explicit word allows them.
"""
TOO_SMALL = frozenset({2, 5})
CURVES: dict[int, tuple[ec.EllipticCurve, int]] = {
    19: (ec.SECP256R1(), 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551),
    20: (
        ec.SECP384R1(),
        0xFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFC7634D81F4372DDF581A0DB248B0A77AECEC196ACCC52973,
    ),
    21: (
        ec.SECP521R1(),
        int("01" + "F" * 65 + "A51868783BF2F966B7FCC0148F709A5D03BB5C9B8899C47AEBB6FB71E91386409", 16),
    ),
}
"""RFC 5903 §3 by group: the curve and its order."""


@lru_cache(maxsize=4)
def modp_prime(group: int) -> int:
    """RFC 3526: 2^n - 2^(n-64) - 1 + 2^64 * (floor(2^(n-130) * pi) + k). The generator is 2."""
    bits, number, _ = MODP[group]
    return (1 << bits) - (1 << (bits - 64)) - 1 + ((_pi_times(bits - 130) + number) << 64)


def _pi_times(bits: int) -> int:
    """floor(2^bits * pi) by Machin's formula, with 64 bits to spare."""
    one = 1 << (bits + 64)

    def arc_tangent_of_one_over(divisor: int) -> int:
        term = total = one // divisor
        square, odd, sign = divisor * divisor, 1, -1
        while term:
            term //= square
            odd += 2
            total += sign * (term // odd)
            sign = -sign
        return total

    return (4 * (4 * arc_tangent_of_one_over(5) - arc_tangent_of_one_over(239))) >> 64


class KeyAgreement(ABC):
    """One side's ephemeral key: ``public`` goes to the peer, :meth:`shared` takes the peer's."""

    group: int
    public: bytes

    @abstractmethod
    def shared(self, peer: bytes) -> bytes:
        """The shared secret g^ir; :class:`Malformed` where the peer's value cannot be used."""


class _Montgomery(KeyAgreement):
    """RFC 8031 §2.3: an all-zero result must be refused."""

    name: str
    size: int
    private_type: Any
    public_type: Any

    def __init__(self, random: Random) -> None:
        self._private = self.private_type.from_private_bytes(random(self.size))
        self.public = self._private.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)

    def shared(self, peer: bytes) -> bytes:
        if len(peer) != self.size:
            why = f"{self.name} takes {self.size} octets, not {len(peer)}"
            raise Malformed("a key exchange value is malformed", why=why)
        try:
            secret: bytes = self._private.exchange(self.public_type.from_public_bytes(peer))
        except ValueError:
            raise Malformed("a key exchange value is malformed", why="it lies in a small subgroup") from None
        return secret


class Curve25519(_Montgomery):
    """Group 31."""

    group, name, size = 31, "curve25519", 32
    private_type, public_type = X25519PrivateKey, X25519PublicKey


class Curve448(_Montgomery):
    """Group 32."""

    group, name, size = 32, "curve448", 56
    private_type, public_type = X448PrivateKey, X448PublicKey


class Ecp(KeyAgreement):
    """Groups 19 to 21. RFC 5903 §7: x and y on the wire, x alone as the secret (Errata 2009: RFC 5903 §9)."""

    def __init__(self, group: int, random: Random) -> None:
        self.group = group
        self._curve, order = CURVES[group]
        self._octets = (self._curve.key_size + 7) // 8
        # Eight octets more than needed, reduced, leave a bias below 2^-64.
        scalar = int.from_bytes(random(self._octets + 8)) % (order - 1) + 1
        self._private = ec.derive_private_key(scalar, self._curve)
        point = self._private.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
        self.public = point[1:]

    def shared(self, peer: bytes) -> bytes:
        if len(peer) != 2 * self._octets:
            why = f"{self._curve.key_size}-bit ECP takes {2 * self._octets} octets, not {len(peer)}"
            raise Malformed("a key exchange value is malformed", why=why)
        try:
            point = ec.EllipticCurvePublicKey.from_encoded_point(self._curve, b"\x04" + peer)
        except ValueError:
            raise Malformed("a key exchange value is malformed", why="the point is not on the curve") from None
        return self._private.exchange(ec.ECDH(), point)


class Modp(KeyAgreement):
    """MODP groups. RFC 3526 §8: an exponent that matches the group's strength; it is used once."""

    def __init__(self, group: int, random: Random) -> None:
        self.group = group
        bits, _, exponent_bits = MODP[group]
        self._octets, self._prime = bits // 8, modp_prime(group)
        self._exponent = int.from_bytes(random(exponent_bits // 8)) | 1 << (exponent_bits - 1)
        self.public = pow(2, self._exponent, self._prime).to_bytes(self._octets)

    def shared(self, peer: bytes) -> bytes:
        value = int.from_bytes(peer)
        # RFC 6989 §2.1: for a safe prime, 1 < value < p - 1 is the whole test.
        if len(peer) != self._octets or not 1 < value < self._prime - 1:
            why = f"it is not a value of the {self._octets * 8}-bit MODP group"
            raise Malformed("a key exchange value is malformed", why=why)
        return pow(value, self._exponent, self._prime).to_bytes(self._octets)


class MlKem768(KeyAgreement):
    """ML-KEM-768 (FIPS 203), method 36, this side being the one that begins: ``public`` is its encapsulation key.

    :meth:`shared` takes the ciphertext.
    """

    group = 36
    CIPHERTEXT = 1088

    def __init__(self, random: Random) -> None:
        self._private = MLKEM768PrivateKey.from_seed_bytes(random(64))
        self.public = self._private.public_key().public_bytes_raw()

    def shared(self, peer: bytes) -> bytes:
        if len(peer) != self.CIPHERTEXT:
            why = f"ML-KEM-768 takes a ciphertext of {self.CIPHERTEXT} octets, not {len(peer)}"
            raise Malformed("a key exchange value is malformed", why=why)
        return self._private.decapsulate(peer)


def encapsulate(peer: bytes) -> tuple[bytes, bytes]:
    """The other side of :class:`MlKem768`: the ciphertext to answer with, and the shared secret.

    :class:`Malformed` where the encapsulation key fails the checks of FIPS 203 §7.2.
    """
    try:
        secret, ciphertext = MLKEM768PublicKey.from_public_bytes(peer).encapsulate()
    except ValueError:
        raise Malformed("a key exchange value is malformed", why="it is no key of ML-KEM-768") from None
    return ciphertext, secret


METHODS = frozenset({*MODP, *CURVES, 31, 32}) - TOO_SMALL
"""The groups that IKEv2 is implemented with."""


def make_key_agreement(group: int, random: Random) -> KeyAgreement:
    """A fresh ephemeral key of a group."""
    if group in CURVES:
        return Ecp(group, random)
    if group in MODP:
        return Modp(group, random)
    if group in (31, 32):
        return Curve25519(random) if group == 31 else Curve448(random)
    raise ProgramFault(f"key exchange group {group} is not implemented")
