"""Keying material (RFC 7296 §2.13, §2.14, §2.15, §2.17)."""

from __future__ import annotations

from zesty_burrow.core.crypto.integrity import HALF_NONCE_PRFS, prf
from zesty_burrow.core.crypto.protection import Protection, key_sizes, make_protection
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import ProgramFault
from zesty_burrow.records import dataclass, field

KEY_PAD = b"Key Pad for IKEv2"


def prf_plus(number: int, key: bytes, seed: bytes, size: int) -> bytes:
    """RFC 7296 §2.13: prf+ , at most 255 blocks."""
    output, block, count = b"", b"", 0
    while len(output) < size:
        count += 1
        if count > 255:
            raise ProgramFault(f"prf+ cannot give {size} octets")
        block = prf(number, key, block + seed + bytes([count]))
        output += block
    return output[:size]


@dataclass(frozen=True, slots=True)
class IkeKeys:
    """The seven keys of an IKE SA (RFC 7296 §2.14)."""

    suite: Suite
    sk_d: bytes = field(repr=False)
    sk_ai: bytes = field(repr=False)
    sk_ar: bytes = field(repr=False)
    sk_ei: bytes = field(repr=False)
    sk_er: bytes = field(repr=False)
    sk_pi: bytes = field(repr=False)
    sk_pr: bytes = field(repr=False)

    def protection(self, of_initiator: bool, random: Random) -> Protection:
        """The protection of the messages that one side sends."""
        key, integrity = (self.sk_ei, self.sk_ai) if of_initiator else (self.sk_er, self.sk_ar)
        return make_protection(self.suite.encryption, key, integrity, random, self.suite.integrity)


def derive_ike_keys(
    suite: Suite,
    shared: bytes,
    nonce_i: bytes,
    nonce_r: bytes,
    spi_i: bytes,
    spi_r: bytes,
    previous: IkeKeys | None = None,
    more: bytes = b"",
) -> IkeKeys:
    """SKEYSEED = prf(Ni | Nr, g^ir); {SK_*} = prf+(SKEYSEED, Ni | Nr | SPIi | SPIr).

    In a rekeying, and after an additional key exchange, SKEYSEED = prf(SK_d (old), g^ir (new) | Ni | Nr), by the old
    PRF (RFC 7296 §2.18, RFC 9370 §2.2.2). ``more``: the secret of a rekeying's second key exchange, which goes behind
    the nonces (RFC 9370 §2.2.4).
    """
    from zesty_burrow.core.policy.algorithms import BY_NUMBER, TransformType

    prf_size = BY_NUMBER[TransformType.PRF, suite.prf].size
    encryption_size, integrity_size = key_sizes(suite.encryption, suite.key_bits, suite.integrity)
    half = suite.prf in HALF_NONCE_PRFS
    if previous is None:
        seed = prf(suite.prf, nonce_i[:8] + nonce_r[:8] if half else nonce_i + nonce_r, shared)
    else:
        seed = prf(previous.suite.prf, previous.sk_d, shared + nonce_i + nonce_r + more)
    sizes = [prf_size, integrity_size, integrity_size, encryption_size, encryption_size, prf_size, prf_size]
    material = prf_plus(suite.prf, seed, nonce_i + nonce_r + spi_i + spi_r, sum(sizes))
    parts, at = [], 0
    for size in sizes:
        parts.append(material[at : at + size])
        at += size
    return IkeKeys(suite, *parts)


@dataclass(frozen=True, slots=True)
class ChildKeys:
    """The keys of a pair of ESP SAs (RFC 7296 §2.17): ``i`` protects what the initiator sends."""

    suite: Suite
    encryption_i: bytes = field(repr=False)
    integrity_i: bytes = field(repr=False)
    encryption_r: bytes = field(repr=False)
    integrity_r: bytes = field(repr=False)

    def protection(self, of_initiator: bool, random: Random) -> Protection:
        """The protection of the packets that one side sends."""
        key, check = (self.encryption_i, self.integrity_i) if of_initiator else (self.encryption_r, self.integrity_r)
        return make_protection(self.suite.encryption, key, check, random, self.suite.integrity)


def derive_child_keys(
    ike: IkeKeys, suite: Suite, nonce_i: bytes, nonce_r: bytes, shared: bytes = b"", more: bytes = b""
) -> ChildKeys:
    """KEYMAT = prf+(SK_d, g^ir | Ni | Nr), taken encryption before integrity, initiator before responder.

    ``shared`` is the secret of a key exchange of its own, if there was one (RFC 7296 §2.17); ``more`` that of a second
    one, which goes behind the nonces (RFC 9370 §2.2.4).
    """
    encryption, integrity = key_sizes(suite.encryption, suite.key_bits, suite.integrity)
    material = prf_plus(ike.suite.prf, ike.sk_d, shared + nonce_i + nonce_r + more, 2 * (encryption + integrity))
    half = encryption + integrity
    return ChildKeys(
        suite,
        material[:encryption],
        material[encryption:half],
        material[half : half + encryption],
        material[half + encryption :],
    )


def signed_octets(
    number: int, message: bytes, peer_nonce: bytes, sk_p: bytes, identity_body: bytes, between: bytes = b""
) -> bytes:
    """RFC 7296 §2.15: what a side signs: its first message | the peer's nonce | prf(SK_p, its ID body).

    ``between``: IntAuth, where there were exchanges between IKE_SA_INIT and IKE_AUTH (RFC 9242 §3.3.2).
    """
    return message + peer_nonce + prf(number, sk_p, identity_body) + between


def shared_key_auth(number: int, key: bytes, octets: bytes) -> bytes:
    """RFC 7296 §2.15: AUTH = prf(prf(key, "Key Pad for IKEv2"), octets); also with an EAP method's MSK (§2.16)."""
    return prf(number, prf(number, key, KEY_PAD), octets)
