"""Key material of IKEv1 (RFC 2409 §5, §5.5, appendix B)."""

from __future__ import annotations

import hashlib

from zesty_burrow.core.crypto.integrity import prf
from zesty_burrow.core.crypto.protection import Protection, key_sizes, make_protection
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import BY_INTEGRITY, ENCR_3DES, ESP
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import CbcCipher
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True, repr=False)
class IkeKeys:
    """SKEYID and what is derived from it; ``encryption``: the cipher's key; ``vector``: the first IV."""

    suite: Suite
    skeyid: bytes
    skeyid_d: bytes
    skeyid_a: bytes
    skeyid_e: bytes
    encryption: bytes
    vector: bytes

    def prf(self, key: bytes, data: bytes) -> bytes:
        return prf(self.suite.prf, key, data)

    def cipher(self) -> CbcCipher:
        return CbcCipher(self.suite.encryption, self.encryption)

    def vector_of(self, last: bytes, message_id: int) -> bytes:
        """The IV that a phase 2 exchange begins with; ``last``: phase 1's last block (RFC 2409 appendix B)."""
        return digest(self.suite, last + message_id.to_bytes(4))


def digest(suite: Suite, data: bytes) -> bytes:
    return hashlib.new(BY_INTEGRITY[suite.integrity].name, data, usedforsecurity=False).digest()


def skeyid_of_shared_key(suite: Suite, key: bytes, nonces: tuple[bytes, bytes]) -> bytes:
    """RFC 2409 §5: prf(pre-shared-key, Ni_b | Nr_b)."""
    return prf(suite.prf, key, nonces[0] + nonces[1])


def skeyid_of_signatures(suite: Suite, shared: bytes, nonces: tuple[bytes, bytes]) -> bytes:
    """RFC 2409 §5: prf(Ni_b | Nr_b, g^xy)."""
    return prf(suite.prf, nonces[0] + nonces[1], shared)


def ike_keys(
    suite: Suite, skeyid: bytes, shared: bytes, cookies: tuple[bytes, bytes], publics: tuple[bytes, bytes]
) -> IkeKeys:
    """Everything of an ISAKMP SA; ``publics``: g^xi and g^xr."""
    tail = shared + cookies[0] + cookies[1]
    keyed = prf(suite.prf, skeyid, tail + b"\0")
    checked = prf(suite.prf, skeyid, keyed + tail + b"\1")
    sealed = prf(suite.prf, skeyid, checked + tail + b"\2")
    size = 24 if suite.encryption == ENCR_3DES else suite.key_bits // 8
    key = sealed
    if len(key) < size:
        # Appendix B: K1 = prf(SKEYID_e, 0), K2 = prf(SKEYID_e, K1), ...
        key, block = b"", b"\0"
        while len(key) < size:
            block = prf(suite.prf, sealed, block)
            key += block
    vector = digest(suite, publics[0] + publics[1])
    return IkeKeys(suite, skeyid, keyed, checked, sealed, key[:size], vector)


@dataclass(frozen=True, slots=True, repr=False)
class EspKeys:
    """For one direction: of a suite of ESP."""

    suite: Suite
    encryption: bytes
    integrity: bytes

    def protection(self, random: Random) -> Protection:
        """The cipher with its keys."""
        suite = self.suite
        return make_protection(suite.encryption, self.encryption, self.integrity, random, suite.integrity)


def esp_keys(keys: IkeKeys, suite: Suite, spi: bytes, nonces: tuple[bytes, bytes], shared: bytes = b"") -> EspKeys:
    """KEYMAT of the SA with this SPI (RFC 2409 §5.5); ``shared``: of a new key exchange, for forward secrecy."""
    encryption, integrity = key_sizes(suite.encryption, suite.key_bits, suite.integrity)
    seed, material, block = shared + bytes([ESP]) + spi + nonces[0] + nonces[1], b"", b""
    while len(material) < encryption + integrity:
        block = keys.prf(keys.skeyid_d, block + seed)
        material += block
    return EspKeys(suite, material[:encryption], material[encryption : encryption + integrity])
