"""MD4 (RFC 1320) and single DES, which MS-CHAP-V2 is built on and current libraries no longer offer."""

from __future__ import annotations

from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives.ciphers import Cipher, modes

_ROUNDS = (
    (0x00000000, (3, 7, 11, 19), tuple(range(16))),
    (0x5A827999, (3, 5, 9, 13), (0, 4, 8, 12, 1, 5, 9, 13, 2, 6, 10, 14, 3, 7, 11, 15)),
    (0x6ED9EBA1, (3, 9, 11, 15), (0, 8, 4, 12, 2, 10, 6, 14, 1, 9, 5, 13, 3, 11, 7, 15)),
)
_MASK = 0xFFFFFFFF


def _mix(stage: int, b: int, c: int, d: int) -> int:
    if stage == 0:
        return (b & c) | (~b & d)
    if stage == 1:
        return (b & c) | (b & d) | (c & d)
    return b ^ c ^ d


def md4(data: bytes) -> bytes:
    """The MD4 digest, 16 octets (RFC 1320 §3)."""
    padded = data + b"\x80" + bytes(-(len(data) + 9) % 64) + (8 * len(data)).to_bytes(8, "little")
    state = [0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476]
    for at in range(0, len(padded), 64):
        words = [int.from_bytes(padded[at + 4 * i : at + 4 * i + 4], "little") for i in range(16)]
        a, b, c, d = state
        for stage, (constant, shifts, order) in enumerate(_ROUNDS):
            for step, index in enumerate(order):
                total = (a + _mix(stage, b, c, d) + words[index] + constant) & _MASK
                shift = shifts[step % 4]
                a, b, c, d = d, (total << shift | total >> (32 - shift)) & _MASK, b, c
        state = [(old + new) & _MASK for old, new in zip(state, (a, b, c, d), strict=True)]
    return b"".join(word.to_bytes(4, "little") for word in state)


def des_encrypt(key: bytes, block: bytes) -> bytes:
    """One block of 8 octets under a key of 7 octets (RFC 2759 §8.6; parity bits are left 0, DES ignores them)."""
    bits = int.from_bytes(key)
    spread = bytes((bits >> (49 - 7 * i) & 0x7F) << 1 for i in range(8))
    # Three-key DES with one key thrice is single DES.
    encryptor = Cipher(TripleDES(spread * 3), modes.ECB()).encryptor()  # noqa: S305
    return encryptor.update(block) + encryptor.finalize()
