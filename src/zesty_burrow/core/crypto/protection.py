"""Authenticated encryption as IKEv2 and ESP share it: one key, ``seal`` and ``open``.

The layout is IV, ciphertext, integrity check value (ICV) for every algorithm (RFC 4303 §2, RFC 7296 §3.14).
"""

from __future__ import annotations

import hmac
from abc import ABC, abstractmethod
from collections.abc import Callable

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives.ciphers import BlockCipherAlgorithm, Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESCCM, AESGCM, ChaCha20Poly1305

from zesty_burrow.core.crypto.integrity import INTEGRITY, Integrity
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.records import dataclass


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
    def seal(self, associated: bytes, plaintext: bytes, behind: bytes = b"", number: int = 0) -> bytes:
        """IV, ciphertext and ICV over ``associated``, ``plaintext``, and what is thought to stand ``behind`` them.

        ``number``: one that never repeats under this key, to be the IV of ciphers that want such; 0: one is counted
        here. Under one key either all calls give a number or none does.
        """

    @abstractmethod
    def open(self, associated: bytes, sealed: bytes, behind: bytes = b"") -> bytes:
        """The plaintext; :class:`Malformed` where the ICV does not hold."""

    def with_high_half(self, header: bytes, high: bytes) -> tuple[bytes, bytes]:
        """``associated`` and ``behind`` of an ESP packet whose sequence number has a high half that is not sent.

        Combined-mode ciphers have it between SPI and low half (RFC 4106 §5, RFC 4309 §5, RFC 7634 §2.1).
        """
        return header[:4] + high + header[4:], b""


class _Counted(Protection):
    """Ciphers whose IV is a counter, so that it never repeats under a key (RFC 4106 §3.1, RFC 3686 §3.1)."""

    _counter = 0

    def _iv(self, number: int) -> bytes:
        if not number:
            self._counter = number = self._counter + 1
        if number >= 1 << 64:
            raise ProgramFault("a nonce would repeat")
        return number.to_bytes(8)


class Combined(_Counted):
    """A combined-mode cipher with a 16-octet ICV, or one that the cipher itself cuts.

    ``twelve_octets``: its nonces are so long and its ICV is whole, as batches want it.
    ``key``: without the salt.
    """

    def __init__(self, aead: AESGCM | AESCCM | ChaCha20Poly1305, key: bytes, salt: bytes, icv_size: int = 16) -> None:
        self.aead, self.key, self.salt = aead, key, salt
        self.icv_size = icv_size
        self.twelve_octets = len(salt) == 4 and icv_size == 16

    def seal(self, associated: bytes, plaintext: bytes, behind: bytes = b"", number: int = 0) -> bytes:
        iv = number.to_bytes(8) if 0 < number < 1 << 64 else self._iv(number)
        return iv + self.aead.encrypt(self.salt + iv, plaintext, associated)

    def open(self, associated: bytes, sealed: bytes, behind: bytes = b"") -> bytes:
        if len(sealed) < 8 + self.icv_size:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets cannot hold IV and ICV")
        try:
            return self.aead.decrypt(self.salt + sealed[:8], sealed[8:], associated)
        except InvalidTag:
            raise Malformed("a sealed part was changed", why="the integrity check value does not hold") from None


class ShortGcm(_Counted):
    """AES-GCM with an ICV of 8 or 12 octets (RFC 4106 §6)."""

    def __init__(self, key: bytes, salt: bytes, icv_size: int) -> None:
        self._cipher, self._salt = algorithms.AES(key), salt
        self.icv_size = icv_size

    def seal(self, associated: bytes, plaintext: bytes, behind: bytes = b"", number: int = 0) -> bytes:
        iv = self._iv(number)
        machine = Cipher(self._cipher, modes.GCM(self._salt + iv)).encryptor()
        machine.authenticate_additional_data(associated)
        return iv + machine.update(plaintext) + machine.finalize() + machine.tag[: self.icv_size]

    def open(self, associated: bytes, sealed: bytes, behind: bytes = b"") -> bytes:
        if len(sealed) < self.overhead:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets cannot hold IV and ICV")
        tag = sealed[-self.icv_size :]
        mode = modes.GCM(self._salt + sealed[:8], tag, min_tag_length=self.icv_size)
        machine = Cipher(self._cipher, mode).decryptor()
        machine.authenticate_additional_data(associated)
        try:
            return machine.update(sealed[8 : -self.icv_size]) + machine.finalize()
        except InvalidTag:
            raise Malformed("a sealed part was changed", why="the integrity check value does not hold") from None


class _Separate(_Counted):
    """A cipher beside an integrity algorithm, encrypt then authenticate (RFC 7296 §3.14, RFC 4303 §3.3.2)."""

    def __init__(self, integrity: Integrity, integrity_key: bytes) -> None:
        self._check_value = integrity.keyed(integrity_key)
        self.icv_size = integrity.icv_size

    def with_high_half(self, header: bytes, high: bytes) -> tuple[bytes, bytes]:
        """Behind the packet (RFC 4303 §2.2.1)."""
        return header, high

    def _sealed(self, associated: bytes, body: bytes, behind: bytes) -> bytes:
        return body + self._check_value(associated + body + behind)

    def _checked(self, associated: bytes, sealed: bytes, behind: bytes) -> bytes:
        """What is left once the ICV held; nothing is decrypted before."""
        if len(sealed) < self.overhead or (len(sealed) - self.icv_size) % self.block:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets do not make whole blocks")
        body, icv = sealed[: -self.icv_size], sealed[-self.icv_size :]
        if not hmac.compare_digest(self._check_value(associated + body + behind), icv):
            raise Malformed("a sealed part was changed", why="the integrity check value does not hold")
        return body


class Cbc(_Separate):
    """AES-CBC (RFC 3602) or 3DES-CBC (RFC 2451) with an unpredictable IV, and one context for all packets each way.

    To set a cipher up costs more than to run it. So the chain is never broken: what goes in first for each packet is
    random, what comes out for it is the IV (NIST SP 800-38A, appendix C: a nonce under the cipher), and the packet
    follows. Opened the same way, the IV gives a block that nobody needs, and then the packet.
    """

    def __init__(
        self, algorithm: BlockCipherAlgorithm, integrity: Integrity, integrity_key: bytes, random: Random
    ) -> None:
        super().__init__(integrity, integrity_key)
        self.block = self.iv_size = algorithm.block_size // 8
        cipher, self._random = Cipher(algorithm, modes.CBC(bytes(self.block))), random
        self._encryptor, self._decryptor = cipher.encryptor(), cipher.decryptor()

    def seal(self, associated: bytes, plaintext: bytes, behind: bytes = b"", number: int = 0) -> bytes:
        if len(plaintext) % self.block:
            raise ProgramFault("a plaintext does not make whole blocks")
        return self._sealed(associated, self._encryptor.update(self._random(self.block) + plaintext), behind)

    def open(self, associated: bytes, sealed: bytes, behind: bytes = b"") -> bytes:
        if len(sealed) < self.overhead + self.block:
            raise Malformed("a sealed part is malformed", why=f"{len(sealed)} octets do not make whole blocks")
        body = self._checked(associated, sealed, behind)
        return self._decryptor.update(body)[self.block :]


class AesCtr(_Separate):
    """AES-CTR (RFC 3686 in ESP, RFC 5930 in IKEv2): counter block of nonce, IV and a block number from 1."""

    def __init__(self, key: bytes, nonce: bytes, integrity: Integrity, integrity_key: bytes) -> None:
        super().__init__(integrity, integrity_key)
        self._cipher, self._nonce = algorithms.AES(key), nonce

    def _run(self, iv: bytes, data: bytes) -> bytes:
        machine = Cipher(self._cipher, modes.CTR(self._nonce + iv + b"\0\0\0\1")).encryptor()
        return machine.update(data) + machine.finalize()

    def seal(self, associated: bytes, plaintext: bytes, behind: bytes = b"", number: int = 0) -> bytes:
        iv = self._iv(number)
        return self._sealed(associated, iv + self._run(iv, plaintext), behind)

    def open(self, associated: bytes, sealed: bytes, behind: bytes = b"") -> bytes:
        body = self._checked(associated, sealed, behind)
        return self._run(body[:8], body[8:])


@dataclass(frozen=True, slots=True)
class _Cipher:
    """How a cipher is made: octets of salt behind its key; ``combined``: it needs no integrity algorithm."""

    salt: int
    combined: bool
    make: Callable[[bytes, bytes], Protection] | None = None
    default_bits: int = 0


def _gcm(icv: int) -> _Cipher:
    if icv == 16:
        return _Cipher(4, True, lambda key, salt: Combined(AESGCM(key), key, salt))
    return _Cipher(4, True, lambda key, salt: ShortGcm(key, salt, icv))


def _ccm(icv: int) -> _Cipher:
    # RFC 4309 §4: the salt has three octets.
    return _Cipher(3, True, lambda key, salt: Combined(AESCCM(key, tag_length=icv), key, salt, icv))


ENCR_3DES, ENCR_AES_CBC, ENCR_AES_CTR = 3, 12, 13
_CIPHERS: dict[int, _Cipher] = {
    ENCR_3DES: _Cipher(0, False, default_bits=192),
    ENCR_AES_CBC: _Cipher(0, False),
    ENCR_AES_CTR: _Cipher(4, False),
    14: _ccm(8),
    15: _ccm(12),
    16: _ccm(16),
    18: _gcm(8),
    19: _gcm(12),
    20: _gcm(16),
    28: _Cipher(4, True, lambda key, salt: Combined(ChaCha20Poly1305(key), key, salt), default_bits=256),
}
"""RFC 2451, 3602, 3686, 4309, 4106, 7634, by IANA numbers. 3DES is for IKEv1, where an explicit word allows it."""


def _cipher(encryption: int, integrity: int) -> _Cipher:
    found = _CIPHERS.get(encryption)
    if found is None or (not found.combined and integrity not in INTEGRITY):
        raise ProgramFault(f"no protection for encryption {encryption} with integrity {integrity}")
    return found


def key_sizes(encryption: int, key_bits: int, integrity: int) -> tuple[int, int]:
    """Octets of key material for encryption (salt included) and integrity (RFC 7296 §2.14, §2.17)."""
    cipher = _cipher(encryption, integrity)
    size = (key_bits or cipher.default_bits) // 8 + cipher.salt
    return size, 0 if cipher.combined else INTEGRITY[integrity].key_size


def make_protection(
    encryption: int, key: bytes, integrity_key: bytes, random: Random, integrity: int = 0
) -> Protection:
    """The protection for a negotiated pair of algorithms; ``key`` ends with the salt or nonce."""
    cipher = _cipher(encryption, integrity)
    plain, salt = (key[: -cipher.salt], key[-cipher.salt :]) if cipher.salt else (key, b"")
    if cipher.make is not None:
        return cipher.make(plain, salt)
    if encryption == ENCR_AES_CTR:
        return AesCtr(plain, salt, INTEGRITY[integrity], integrity_key)
    algorithm = TripleDES(plain) if encryption == ENCR_3DES else algorithms.AES(plain)
    return Cbc(algorithm, INTEGRITY[integrity], integrity_key, random)
