"""Public keys of devices and administrators as lines of text, and the codes by which people compare them."""

from __future__ import annotations

import base64
import binascii
import hashlib

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

DEVICE, ADMINISTRATOR = "device-key", "administrator-key"
SIZES = {DEVICE: 64, ADMINISTRATOR: 32}
VERSION = "1"
LETTERS = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"
"""Without I, O, 0 and 1, which are taken for each other; 32, so that each stands for five bits."""
CODE_LETTERS, GROUP = 20, 4
MOST = 200


@dataclass(frozen=True, slots=True)
class PublicKey:
    """``octets``: X25519 (RFC 7748) and Ed25519 (RFC 8032) of a device; Ed25519 alone of an administrator."""

    kind: str
    octets: bytes

    @property
    def text(self) -> str:
        """One line, as it is stored and handed on."""
        return f"{self.kind} {VERSION} {base64.b64encode(self.octets).decode()}"

    @property
    def code(self) -> str:
        """What two people compare: 100 bits of SHA-256 in groups of unmistakable letters."""
        return code_of(self.text.encode())

    @property
    def agreement(self) -> X25519PublicKey:
        """A device's, to encrypt for it."""
        return X25519PublicKey.from_public_bytes(self.octets[:32])

    def verify(self, signature: bytes, data: bytes) -> None:
        """Raises :class:`Malformed` where this key has not signed the data."""
        try:
            Ed25519PublicKey.from_public_bytes(self.octets[-32:]).verify(signature, data)
        except InvalidSignature:
            raise Malformed("the signature is wrong", why=f"it was not made by the key {self.code}") from None


def code_of(octets: bytes) -> str:
    """A code for octets, in groups."""
    number = int.from_bytes(hashlib.sha256(octets).digest()[:16])
    letters = "".join(LETTERS[number >> (5 * at) & 31] for at in range(CODE_LETTERS))
    return "-".join(letters[at : at + GROUP] for at in range(0, CODE_LETTERS, GROUP))


def read_key(text: str, kind: str) -> PublicKey:
    """From its line; raises only :class:`Malformed`."""
    parts = text[: MOST + 1].split()
    what = f"this is no {kind.replace('-', ' ')}"
    if len(text) > MOST or len(parts) != 3 or parts[0] != kind:
        raise Malformed(what, why=f"a line that begins with {kind!r} is needed")
    if parts[1] != VERSION:
        raise Malformed(what, why=f"its form is {parts[1]!r:.20}, this program knows {VERSION}")
    try:
        octets = base64.b64decode(parts[2], validate=True)
    except (binascii.Error, ValueError):
        octets = b""
    if len(octets) != SIZES[kind]:
        raise Malformed(what, why=f"it needs {SIZES[kind]} octets in base64")
    return PublicKey(kind, octets)


def pickup_name(key: PublicKey) -> str:
    """By which what waits for a device is known: nothing that anybody could guess who does not know its key."""
    return hashlib.sha256(b"zesty-burrow pickup 1" + key.octets).hexdigest()


def make_secret() -> bytes:
    """A new secret: 32 octets of each of the two kinds."""
    return _raw(X25519PrivateKey.generate()) + _raw(Ed25519PrivateKey.generate())


def _raw(key: X25519PrivateKey | Ed25519PrivateKey) -> bytes:
    return key.private_bytes(Encoding.Raw, PrivateFormat.Raw, NoEncryption())


@dataclass(frozen=True, slots=True, repr=False)
class OwnKeys:
    """This machine's secret keys, from :func:`make_secret`; never shown."""

    octets: bytes

    @property
    def agreement(self) -> X25519PrivateKey:
        """To decrypt what is for this device."""
        return X25519PrivateKey.from_private_bytes(self.octets[:32])

    @property
    def _signing(self) -> Ed25519PrivateKey:
        return Ed25519PrivateKey.from_private_bytes(self.octets[32:])

    def sign(self, data: bytes) -> bytes:
        """An Ed25519 signature."""
        return self._signing.sign(data)

    def public(self, kind: str) -> PublicKey:
        own = self._signing.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
        if kind == ADMINISTRATOR:
            return PublicKey(kind, own)
        return PublicKey(kind, self.agreement.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw) + own)


def same_code(first: str, second: str) -> bool:
    """Whether two codes are the same one, with or without hyphens and blanks, in capitals or not."""
    plain = [text.upper().replace("-", "").replace(" ", "") for text in (first, second)]
    return plain[0] == plain[1]
