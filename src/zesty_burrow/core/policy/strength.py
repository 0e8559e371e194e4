"""How strong an algorithm is: the bits of work that the best known attack needs, by NIST SP 800-57 part 1, table 2.

For key exchange it is the work against today's computers; only ML-KEM (FIPS 203, category 3) stands against quantum
computers as well, and with it beside another method the stronger of the two counts (RFC 9370 §2.2.2).
"""

from __future__ import annotations

from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, TransformType
from zesty_burrow.core.policy.suite import Suite

T = TransformType

BITS: dict[tuple[int, int], int] = {
    (T.ENCR, 2): 56,
    (T.ENCR, 3): 112,
    (T.ENCR, 11): 0,
    (T.ENCR, 28): 256,
    (T.PRF, 1): 128,
    (T.PRF, 2): 160,
    (T.PRF, 4): 128,
    (T.PRF, 5): 256,
    (T.PRF, 6): 384,
    (T.PRF, 7): 512,
    (T.PRF, 8): 128,
    (T.INTEG, 0): 0,
    (T.INTEG, 1): 96,
    (T.INTEG, 2): 96,
    (T.INTEG, 3): 56,
    (T.INTEG, 4): 128,
    (T.INTEG, 5): 96,
    (T.INTEG, 8): 96,
    (T.INTEG, 12): 128,
    (T.INTEG, 13): 192,
    (T.INTEG, 14): 256,
    (T.KE, 1): 60,
    (T.KE, 2): 80,
    (T.KE, 5): 90,
    (T.KE, 14): 112,
    (T.KE, 15): 128,
    (T.KE, 16): 152,
    (T.KE, 19): 128,
    (T.KE, 20): 192,
    (T.KE, 21): 256,
    (T.KE, 22): 80,
    (T.KE, 23): 112,
    (T.KE, 24): 112,
    (T.KE, 31): 128,
    (T.KE, 32): 224,
    (T.ADDKE1, 36): 192,
}
"""Bits by transform type and number; MODP groups by RFC 3526 §8, ICVs by their length (a forger's chance)."""


def strength(kind: int, number: int, key_bits: int = 0) -> int:
    """Bits; a cipher with several key lengths has those of its key."""
    return BITS.get((kind, number), key_bits)


def suite_strength(suite: Suite) -> int:
    """The weakest part of what keeps a tunnel's content secret: cipher, PRF and key exchange."""
    parts = [strength(T.ENCR, suite.encryption, suite.key_bits)]
    if suite.prf:
        parts.append(strength(T.PRF, suite.prf))
    if suite.group:
        parts.append(max(strength(T.KE, suite.group), strength(T.ADDKE1, suite.extra) if suite.extra else 0))
    if suite.encryption not in AEAD_NUMBERS and not suite.integrity:
        # An attacker who can change a packet undetected needs no key.
        parts.append(0)
    return min(parts)
