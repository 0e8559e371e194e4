"""MD4 (RFC 1320) and single DES, which MS-CHAP-V2 is built on and current libraries no longer offer."""

from __future__ import annotations

import struct

from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives.ciphers import Cipher, modes

_MASK = 0xFFFFFFFF
_SECOND, _THIRD = 0x5A827999, 0x6ED9EBA1
_WORDS = struct.Struct("<16I")


def md4(data: bytes) -> bytes:
    """The MD4 digest, 16 octets (RFC 1320 §3)."""
    padded = data + b"\x80" + bytes(-(len(data) + 9) % 64) + (8 * len(data)).to_bytes(8, "little")
    state = 0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476
    for at in range(0, len(padded), 64):
        state = _block(state, _WORDS.unpack_from(padded, at))
    return struct.pack("<4I", *state)


def _block(state: tuple[int, int, int, int], x: tuple[int, ...]) -> tuple[int, int, int, int]:
    """RFC 1320 §3.4: its three rounds of sixteen turns."""
    a, b, c, d = state
    for i in (0, 4, 8, 12):
        a = (a + (b & c | ~b & d) + x[i]) & _MASK
        a = (a << 3 | a >> 29) & _MASK
        d = (d + (a & b | ~a & c) + x[i + 1]) & _MASK
        d = (d << 7 | d >> 25) & _MASK
        c = (c + (d & a | ~d & b) + x[i + 2]) & _MASK
        c = (c << 11 | c >> 21) & _MASK
        b = (b + (c & d | ~c & a) + x[i + 3]) & _MASK
        b = (b << 19 | b >> 13) & _MASK
    for i in (0, 1, 2, 3):
        a = (a + (b & c | b & d | c & d) + x[i] + _SECOND) & _MASK
        a = (a << 3 | a >> 29) & _MASK
        d = (d + (a & b | a & c | b & c) + x[i + 4] + _SECOND) & _MASK
        d = (d << 5 | d >> 27) & _MASK
        c = (c + (d & a | d & b | a & b) + x[i + 8] + _SECOND) & _MASK
        c = (c << 9 | c >> 23) & _MASK
        b = (b + (c & d | c & a | d & a) + x[i + 12] + _SECOND) & _MASK
        b = (b << 13 | b >> 19) & _MASK
    for i in (0, 2, 1, 3):
        a = (a + (b ^ c ^ d) + x[i] + _THIRD) & _MASK
        a = (a << 3 | a >> 29) & _MASK
        d = (d + (a ^ b ^ c) + x[i + 8] + _THIRD) & _MASK
        d = (d << 9 | d >> 23) & _MASK
        c = (c + (d ^ a ^ b) + x[i + 4] + _THIRD) & _MASK
        c = (c << 11 | c >> 21) & _MASK
        b = (b + (c ^ d ^ a) + x[i + 12] + _THIRD) & _MASK
        b = (b << 15 | b >> 17) & _MASK
    return (
        state[0] + a & _MASK,
        state[1] + b & _MASK,
        state[2] + c & _MASK,
        state[3] + d & _MASK,
    )


def des_encrypt(key: bytes, block: bytes) -> bytes:
    """One block of 8 octets under a key of 7 octets (RFC 2759 §8.6; parity bits are left 0, DES ignores them)."""
    bits = int.from_bytes(key)
    spread = bytes([bits >> places << 1 & 0xFE for places in (49, 42, 35, 28, 21, 14, 7, 0)])
    # Three-key DES with one key thrice is single DES.
    encryptor = Cipher(TripleDES(spread * 3), modes.ECB()).encryptor()  # noqa: S305
    return encryptor.update(block) + encryptor.finalize()
