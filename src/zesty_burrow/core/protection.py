"""Authenticated encryption as IKEv2 and ESP share it: one key, ``seal`` and ``open``.

The layout is IV, ciphertext, integrity check value (ICV) for every algorithm (RFC 4303 §2, RFC 7296 §3.14).
"""

from __future__ import annotations

import hmac
from abc import ABC, abstractmethod
from collections.abc import Callable

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from zesty_burrow.errors import Malformed, ProgramFault

Random = Callable[[int], bytes]
"""Hands out that many unpredictable octets."""

ENCR_AES_CBC = 12
ENCR_AES_GCM_16 = 20
AUTH_HMAC_SHA2_256_128 = 12


class Protection(ABC):
    """One direction's cipher and integrity under one key.

    ``block``: plaintext must be a multiple of this; ``overhead``: octets of IV and ICV together.
    """

    block = 1
    iv_size = 8
    icv_size = 16

    @property
    def overhead(self) -> int:
        """Octets that sealing adds to the plaintext."""
        return self.iv_size + self.icv_size

    @abstractmethod
    def seal(self, associated: bytes, plaintext: bytes) -> bytes:
        """IV, ciphertext and ICV over ``associated`` and ``plaintext``."""

    @abstractmethod
    def open(self, associated: bytes, sealed: bytes) -> bytes:
        """The plaintext; :class:`Malformed` where the ICV does not hold."""


class AesGcm16(Protection):
    """AES-GCM with a 16-octet ICV (RFC 4106 in ESP, RFC 5282 in IKEv2).

    ``key`` ends with the 4-octet salt. The IV is a counter, so that it never repeats under a key (RFC 4106 §3.1).
    """

    def __init__(self, key: bytes) -> None:
        self._aead = AESGCM(key[:-4])
        self._salt = key[-4:]
        self._counter = 0

    def seal(self, associated: bytes, plaintext: bytes) -> bytes:
        self._counter += 1
        if self._counter >= 1 << 64:
            raise ProgramFault("an AES-GCM nonce would repeat")
        iv = self._counter.to_bytes(8)
        return iv + self._aead.encrypt(self._salt + iv, plaintext, associated)

    def open(self, associated: bytes, sealed: bytes) -> bytes:
        if len(sealed) < self.overhead:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets cannot hold IV and ICV")
        try:
            return self._aead.decrypt(self._salt + sealed[:8], sealed[8:], associated)
        except InvalidTag:
            raise Malformed("a sealed part was changed", why="the integrity check value does not hold") from None


class AesCbcHmac(Protection):
    """AES-CBC (RFC 3602) with HMAC-SHA2-256-128 (RFC 4868), encrypt then authenticate."""

    block = 16
    iv_size = 16

    def __init__(self, key: bytes, integrity_key: bytes, random: Random) -> None:
        self._cipher = algorithms.AES(key)
        self._integrity_key = integrity_key
        self._random = random

    def _icv(self, associated: bytes, body: bytes) -> bytes:
        return hmac.digest(self._integrity_key, associated + body, "sha256")[:16]

    def seal(self, associated: bytes, plaintext: bytes) -> bytes:
        iv = self._random(16)
        encryptor = Cipher(self._cipher, modes.CBC(iv)).encryptor()
        body = iv + encryptor.update(plaintext) + encryptor.finalize()
        return body + self._icv(associated, body)

    def open(self, associated: bytes, sealed: bytes) -> bytes:
        if len(sealed) < self.overhead + 16 or len(sealed) % 16:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets do not make whole blocks")
        body, icv = sealed[:-16], sealed[-16:]
        if not hmac.compare_digest(self._icv(associated, body), icv):
            raise Malformed("a sealed part was changed", why="the integrity check value does not hold")
        decryptor = Cipher(self._cipher, modes.CBC(body[:16])).decryptor()
        return decryptor.update(body[16:]) + decryptor.finalize()


def key_sizes(encryption: int, key_bits: int, integrity: int) -> tuple[int, int]:
    """Octets of key material for encryption (salt included) and integrity (RFC 7296 §2.14, §2.17)."""
    if encryption == ENCR_AES_GCM_16:
        return key_bits // 8 + 4, 0
    if encryption == ENCR_AES_CBC and integrity == AUTH_HMAC_SHA2_256_128:
        return key_bits // 8, 32
    raise ProgramFault(f"no protection for encryption {encryption} with integrity {integrity}")


def make_protection(encryption: int, key: bytes, integrity_key: bytes, random: Random) -> Protection:
    """The protection for a negotiated pair of algorithms."""
    if encryption == ENCR_AES_GCM_16:
        return AesGcm16(key)
    if encryption == ENCR_AES_CBC:
        return AesCbcHmac(key, integrity_key, random)
    raise ProgramFault(f"no protection for encryption {encryption}")
