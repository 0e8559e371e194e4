"""Signed JSON: JWS in its compact form (RFC 7515 §3.1) with Ed25519 (RFC 8037 §3.1), and no other algorithm."""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from zesty_burrow.errors import Malformed

ALGORITHM = "EdDSA"
MEDIA_TYPE = "application/jose"
LONGEST = 4 << 20


def encode(octets: bytes) -> str:
    """Base64url without padding (RFC 7515 §2)."""
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def decode(text: str) -> bytes:
    """Raises only :class:`Malformed`."""
    try:
        return base64.b64decode(text.encode("ascii") + b"=" * (-len(text) % 4), altchars=b"-_", validate=True)
    except (binascii.Error, ValueError):
        raise Malformed("a signed text was refused", why="it is not base64url (RFC 7515 §2)") from None


def public_text(key: Ed25519PublicKey) -> str:
    """A public key as text, as settings have it: 32 octets in base64url (``x`` of RFC 8037 §2)."""
    return encode(key.public_bytes(Encoding.Raw, PublicFormat.Raw))


def public_key(text: str) -> Ed25519PublicKey:
    """A public key from its text; raises only :class:`Malformed`."""
    octets = decode(text.strip())
    if len(octets) != 32:
        raise Malformed(
            "a public key was refused", why=f"it has {len(octets)} octets; an Ed25519 key has 32 (RFC 8037 §2)"
        )
    return Ed25519PublicKey.from_public_bytes(octets)


def thumbprint(key: Ed25519PublicKey) -> str:
    """By which a key is known (RFC 8037 appendix A.3, RFC 7638)."""
    words = json.dumps({"crv": "Ed25519", "kty": "OKP", "x": public_text(key)}, separators=(",", ":"), sort_keys=True)
    return encode(hashlib.sha256(words.encode()).digest())


def sign(key: Ed25519PrivateKey, payload: bytes, header: dict[str, Any] | None = None) -> str:
    """``header``: in place of the default one, which names the key."""
    known = header or {"alg": ALGORITHM, "kid": thumbprint(key.public_key())}
    body = f"{encode(json.dumps(known, separators=(',', ':')).encode())}.{encode(payload)}"
    return f"{body}.{encode(key.sign(body.encode()))}"


def payload_of(text: str) -> bytes:
    """What a signed text holds; the signature is not checked; raises only :class:`Malformed`."""
    return decode(_parts(text)[1])


def verify(text: str, key: Ed25519PublicKey) -> bytes:
    """What a key has signed; raises only :class:`Malformed`."""
    head, payload, signature = _parts(text)
    try:
        header = json.loads(decode(head))
    except (ValueError, RecursionError):
        header = None
    if not isinstance(header, dict) or header.get("alg") != ALGORITHM or "crit" in header:
        raise Malformed("a signed text was refused", why=f"its algorithm is not {ALGORITHM} alone (RFC 7515 §4.1.1)")
    try:
        key.verify(decode(signature), f"{head}.{payload}".encode("ascii"))
    except InvalidSignature:
        raise Malformed("a signed text was refused", why="its signature does not hold") from None
    return decode(payload)


def _parts(text: str) -> tuple[str, str, str]:
    parts = text.strip().split(".") if len(text) <= LONGEST and text.isascii() else []
    if len(parts) != 3:
        raise Malformed("a signed text was refused", why="it is not header.payload.signature (RFC 7515 §3.1)")
    return parts[0], parts[1], parts[2]
