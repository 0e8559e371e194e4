"""The kinds of private keys that can sign here."""

from __future__ import annotations

from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey
from cryptography.hazmat.primitives.asymmetric.ed448 import Ed448PrivateKey
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from zesty_burrow.errors import ProgramFault

PRIVATE_KEYS = (RSAPrivateKey, EllipticCurvePrivateKey, Ed25519PrivateKey, Ed448PrivateKey)
PrivateKey = RSAPrivateKey | EllipticCurvePrivateKey | Ed25519PrivateKey | Ed448PrivateKey


def load_private_key(pem: bytes) -> PrivateKey:
    """A key as credentials hold it: PKCS #8, PEM."""
    key = load_pem_private_key(pem, None)
    if not isinstance(key, PRIVATE_KEYS):
        raise ProgramFault("credentials hold a kind of key that is not used here")
    return key
