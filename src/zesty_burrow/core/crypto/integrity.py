"""Keyed functions by their IANA numbers: pseudorandom functions (transform type 2) and integrity (type 3)."""

from __future__ import annotations

import hmac
from collections.abc import Callable

from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.cmac import CMAC

from zesty_burrow.errors import ProgramFault
from zesty_burrow.records import dataclass

BLOCK = 16
Keyed = Callable[[bytes, bytes], bytes]
"""Key and message in, the whole output out."""


def aes_cmac(key: bytes, message: bytes) -> bytes:
    """AES-CMAC (RFC 4493)."""
    machine = CMAC(algorithms.AES(key))
    machine.update(message)
    return machine.finalize()


def aes_xcbc(key: bytes, message: bytes) -> bytes:
    """AES-XCBC-MAC (RFC 3566 §4), all 16 octets."""
    ecb = Cipher(algorithms.AES(key), modes.ECB()).encryptor()  # noqa: S305  (three constant blocks, once each)
    first, second, third = (ecb.update(bytes([number]) * BLOCK) for number in (1, 2, 3))
    whole = bool(message) and len(message) % BLOCK == 0
    padded = message if whole else message + b"\x80" + bytes(-(len(message) + 1) % BLOCK)
    last = bytes(one ^ other for one, other in zip(padded[-BLOCK:], second if whole else third, strict=True))
    chain = Cipher(algorithms.AES(first), modes.CBC(bytes(BLOCK))).encryptor()
    return chain.update(padded[:-BLOCK] + last)[-BLOCK:]


def aes_xcbc_prf(key: bytes, message: bytes) -> bytes:
    """PRF_AES128_XCBC (RFC 4434 §2): a key of any length."""
    if len(key) > BLOCK:
        key = aes_xcbc(bytes(BLOCK), key)
    return aes_xcbc(key.ljust(BLOCK, b"\0"), message)


def aes_cmac_prf(key: bytes, message: bytes) -> bytes:
    """PRF_AES128_CMAC (RFC 4615 §3): a key of any length."""
    return aes_cmac(key if len(key) == BLOCK else aes_cmac(bytes(BLOCK), key), message)


def _hmac(name: str) -> Keyed:
    return lambda key, message: hmac.digest(key, message, name)


PRFS: dict[int, Keyed] = {
    1: _hmac("md5"),
    2: _hmac("sha1"),
    4: aes_xcbc_prf,
    5: _hmac("sha256"),
    6: _hmac("sha384"),
    7: _hmac("sha512"),
    8: aes_cmac_prf,
}
HALF_NONCE_PRFS = frozenset({4, 8})
"""RFC 7296 §2.14: for these SKEYSEED is keyed with the first 8 octets of each nonce alone."""


@dataclass(frozen=True, slots=True)
class Integrity:
    """An integrity algorithm: octets of its key and of its check value; ``hash_name`` where it is an HMAC."""

    key_size: int
    icv_size: int
    function: Keyed
    hash_name: str = ""

    def check_value(self, key: bytes, message: bytes) -> bytes:
        """The truncated check value (ICV)."""
        return self.function(key, message)[: self.icv_size]

    def keyed(self, key: bytes) -> Callable[[bytes], bytes]:
        """:meth:`check_value` under one key; an HMAC's key is worked in once (RFC 2104 §4)."""
        if not self.hash_name:
            return lambda message: self.check_value(key, message)
        begun, size = hmac.new(key, digestmod=self.hash_name), self.icv_size

        def check_value(message: bytes) -> bytes:
            machine = begun.copy()
            machine.update(message)
            return machine.digest()[:size]

        return check_value


def _hmac_check(key_size: int, icv_size: int, name: str) -> Integrity:
    return Integrity(key_size, icv_size, _hmac(name), name)


INTEGRITY: dict[int, Integrity] = {
    1: _hmac_check(16, 12, "md5"),
    2: _hmac_check(20, 12, "sha1"),
    5: Integrity(16, 12, aes_xcbc),
    8: Integrity(16, 12, aes_cmac),
    12: _hmac_check(32, 16, "sha256"),
    13: _hmac_check(48, 24, "sha384"),
    14: _hmac_check(64, 32, "sha512"),
}
"""RFC 2403, 2404, 3566, 4494, 4868. HMAC-MD5 is there for IKEv1, where an explicit word allows it."""


def prf(number: int, key: bytes, data: bytes) -> bytes:
    try:
        return PRFS[number](key, data)
    except KeyError:
        raise ProgramFault(f"PRF {number} is not implemented") from None
