"""Signatures of phase 1: RSA (RFC 2409 §5.1) and ECDSA (RFC 4754 §7)."""

from __future__ import annotations

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import (
    NoDigestInfo,
    decode_dss_signature,
    encode_dss_signature,
)

from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ECDSA_SIGNATURES, RSA_SIGNATURE

_HASHES: dict[int, hashes.HashAlgorithm] = {256: hashes.SHA256(), 384: hashes.SHA384(), 521: hashes.SHA512()}


def methods_of(key: object) -> tuple[int, ...]:
    """The methods of authentication that a key is good for."""
    if isinstance(key, rsa.RSAPrivateKey | rsa.RSAPublicKey):
        return (RSA_SIGNATURE,)
    if isinstance(key, ec.EllipticCurvePrivateKey | ec.EllipticCurvePublicKey):
        return tuple(method for method, bits in ECDSA_SIGNATURES.items() if bits == key.curve.key_size)
    return ()


def sign(key: PrivateKey, octets: bytes) -> bytes:
    """A signature payload's body. RSA: the hash alone in PKCS #1 form, without its algorithm (RFC 2409 §5.1)."""
    if isinstance(key, rsa.RSAPrivateKey):
        return key.sign(octets, padding.PKCS1v15(), NoDigestInfo())
    if not isinstance(key, ec.EllipticCurvePrivateKey) or not methods_of(key):
        raise Malformed("this key cannot sign in IKEv1", why="only RSA and the curves P-256, P-384 and P-521 can")
    bits = key.curve.key_size
    numbers = decode_dss_signature(key.sign(octets, ec.ECDSA(_HASHES[bits])))
    return b"".join(number.to_bytes((bits + 7) // 8) for number in numbers)


def _verify_rsa(key: rsa.RSAPublicKey, signature: bytes, octets: bytes) -> None:
    """What is within the padding has to be the hash itself. Raises ``InvalidSignature``."""
    if key.recover_data_from_signature(signature, padding.PKCS1v15(), None) != octets:
        raise InvalidSignature


def verify(key: object, signature: bytes, octets: bytes) -> None:
    """Raises :class:`Malformed` where a stranger's signature does not hold."""
    try:
        if isinstance(key, rsa.RSAPublicKey):
            _verify_rsa(key, signature, octets)
            return
        if isinstance(key, ec.EllipticCurvePublicKey) and methods_of(key):
            half = (key.curve.key_size + 7) // 8
            if len(signature) == 2 * half:
                numbers = int.from_bytes(signature[:half]), int.from_bytes(signature[half:])
                key.verify(encode_dss_signature(*numbers), octets, ec.ECDSA(_HASHES[key.curve.key_size]))
                return
    except (InvalidSignature, ValueError):
        pass
    raise Malformed("a signature does not hold", why="it was not made with the key of the certificate that was shown")
