"""Key exchange methods: curve25519 (RFC 8031), 256-bit ECP (RFC 5903), 2048-bit MODP (RFC 3526).

Private values come from octets that are handed in, so that runs can be repeated in tests.
"""

from __future__ import annotations

from abc import ABC, abstractmethod

from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from zesty_burrow.core.protection import Random
from zesty_burrow.errors import Malformed, ProgramFault

MODP_2048 = int(
    "FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74020BBEA63B139B22514A08798E3404DD"
    "EF9519B3CD3A431B302B0A6DF25F14374FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7ED"
    "EE386BFB5A899FA5AE9F24117C4B1FE649286651ECE45B3DC2007CB8A163BF0598DA48361C55D39A69163FA8FD24CF5F"
    "83655D23DCA3AD961C62F356208552BB9ED529077096966D670C354E4ABC9804F1746C08CA18217C32905E462E36CE3B"
    "E39E772C180E86039B2783A2EC07A28FB5C55DF06F4C52C9DE2BCBF6955817183995497CEA956AE515D2261898FA0510"
    "15728E5A8AACAA68FFFFFFFFFFFFFFFF",
    16,
)
"""RFC 3526 §3; the generator is 2."""

P256_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551


class KeyAgreement(ABC):
    """One side's ephemeral key: ``public`` goes to the peer, :meth:`shared` takes the peer's."""

    group: int
    public: bytes

    @abstractmethod
    def shared(self, peer: bytes) -> bytes:
        """The shared secret g^ir; :class:`Malformed` where the peer's value cannot be used."""


class Curve25519(KeyAgreement):
    """Group 31. RFC 8031 §2.3: an all-zero result must be refused."""

    group = 31

    def __init__(self, random: Random) -> None:
        self._private = X25519PrivateKey.from_private_bytes(random(32))
        self.public = self._private.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)

    def shared(self, peer: bytes) -> bytes:
        if len(peer) != 32:
            raise Malformed("a key exchange value is malformed", why=f"curve25519 takes 32 octets, not {len(peer)}")
        try:
            return self._private.exchange(X25519PublicKey.from_public_bytes(peer))
        except ValueError:
            raise Malformed("a key exchange value is malformed", why="it lies in a small subgroup") from None


class Ecp256(KeyAgreement):
    """Group 19. RFC 5903 §7: x and y on the wire, x alone as the secret (Errata 2009: RFC 5903 §9)."""

    group = 19

    def __init__(self, random: Random) -> None:
        # 40 octets reduced leave a bias below 2^-64.
        scalar = int.from_bytes(random(40)) % (P256_ORDER - 1) + 1
        self._private = ec.derive_private_key(scalar, ec.SECP256R1())
        point = self._private.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
        self.public = point[1:]

    def shared(self, peer: bytes) -> bytes:
        if len(peer) != 64:
            raise Malformed("a key exchange value is malformed", why=f"256-bit ECP takes 64 octets, not {len(peer)}")
        try:
            point = ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), b"\x04" + peer)
        except ValueError:
            raise Malformed("a key exchange value is malformed", why="the point is not on the curve") from None
        return self._private.exchange(ec.ECDH(), point)


class Modp2048(KeyAgreement):
    """Group 14. RFC 3526 §8: an exponent of 320 bits matches the group's strength; it is used once."""

    group = 14

    def __init__(self, random: Random) -> None:
        self._exponent = int.from_bytes(random(40)) | 1 << 319
        self.public = pow(2, self._exponent, MODP_2048).to_bytes(256)

    def shared(self, peer: bytes) -> bytes:
        value = int.from_bytes(peer)
        # RFC 6989 §2.1: for a safe prime, 1 < value < p - 1 is the whole test.
        if len(peer) != 256 or not 1 < value < MODP_2048 - 1:
            raise Malformed("a key exchange value is malformed", why="it is not a value of the 2048-bit MODP group")
        return pow(value, self._exponent, MODP_2048).to_bytes(256)


METHODS: dict[int, type[Curve25519 | Ecp256 | Modp2048]] = {14: Modp2048, 19: Ecp256, 31: Curve25519}


def make_key_agreement(group: int, random: Random) -> KeyAgreement:
    """A fresh ephemeral key of a group."""
    try:
        method = METHODS[group]
    except KeyError:
        raise ProgramFault(f"key exchange group {group} is not implemented") from None
    return method(random)
