"""Signatures in the AUTH payload: RFC 7427 and RFC 8420 (method 14), RFC 4754 (methods 9 to 11).

RSA with SHA-1 (method 1) is refused.
"""

from __future__ import annotations

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature, encode_dss_signature

from zesty_burrow.core.certificates.wrapped import signature_algorithm_untrusted
from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.wire.payloads import Authentication
from zesty_burrow.protocols.ikev2.wire.registry import AuthMethod

Hash = type[hashes.SHA256] | type[hashes.SHA384] | type[hashes.SHA512]
ED25519, ED448 = bytes.fromhex("300506032b6570"), bytes.fromhex("300506032b6571")
"""RFC 8420 appendix A."""
IDENTITY_HASH = 5
EVERY_HASH = frozenset({2, 3, 4, IDENTITY_HASH})

# RFC 7427 appendix A: the AlgorithmIdentifier objects that our own signatures carry.
RSA_PSS_SHA256 = bytes.fromhex(
    "304106092a864886f70d01010a3034a00f300d06096086480165030402010500"
    "a11c301a06092a864886f70d010108300d06096086480165030402010500a203020120"
)
ECDSA_SHA2: dict[Hash, bytes] = {
    hashes.SHA256: bytes.fromhex("300a06082a8648ce3d040302"),
    hashes.SHA384: bytes.fromhex("300a06082a8648ce3d040303"),
    hashes.SHA512: bytes.fromhex("300a06082a8648ce3d040304"),
}
SHA2 = (hashes.SHA256, hashes.SHA384, hashes.SHA512)
PLAIN_ECDSA: dict[int, tuple[Hash, int]] = {
    AuthMethod.ECDSA_SHA256_P256: (hashes.SHA256, 256),
    AuthMethod.ECDSA_SHA384_P384: (hashes.SHA384, 384),
    AuthMethod.ECDSA_SHA512_P521: (hashes.SHA512, 521),
}


def sign(key: PrivateKey, octets: bytes, peer_hashes: frozenset[int] = EVERY_HASH) -> Authentication:
    """AUTH by RFC 7427: RSASSA-PSS with SHA2-256 (MUST in RFC 8247 §3.2), ECDSA with the curve's SHA-2, or EdDSA.

    ``peer_hashes``: what the peer announced (RFC 7427 §4). :class:`Malformed` where nothing fits.
    """
    if isinstance(key, ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey):
        if IDENTITY_HASH not in peer_hashes:
            raise Malformed("the gateway takes no EdDSA signatures", why="it did not announce them (RFC 8420 §2)")
        identifier = ED25519 if isinstance(key, ed25519.Ed25519PrivateKey) else ED448
        return Authentication(AuthMethod.DIGITAL_SIGNATURE, bytes([len(identifier)]) + identifier + key.sign(octets))
    needed = {256: 2, 384: 3, 521: 4}[key.curve.key_size] if isinstance(key, ec.EllipticCurvePrivateKey) else 2
    if needed not in peer_hashes:
        return _sign_without_rfc7427(key, octets)
    if isinstance(key, rsa.RSAPrivateKey):
        identifier = RSA_PSS_SHA256
        scheme = padding.PSS(padding.MGF1(hashes.SHA256()), hashes.SHA256.digest_size)
        signature = key.sign(octets, scheme, hashes.SHA256())
    else:
        algorithm = next(row[0] for row in PLAIN_ECDSA.values() if row[1] == key.curve.key_size)
        identifier = ECDSA_SHA2[algorithm]
        signature = key.sign(octets, ec.ECDSA(algorithm()))
    return Authentication(AuthMethod.DIGITAL_SIGNATURE, bytes([len(identifier)]) + identifier + signature)


def _sign_without_rfc7427(key: PrivateKey, octets: bytes) -> Authentication:
    """RFC 4754 for a gateway that knows no other way; the older RSA method rests on SHA-1 and is not used."""
    if not isinstance(key, ec.EllipticCurvePrivateKey):
        raise Malformed("the gateway takes no signature that we would make", why="it knows RSA with SHA-1 alone")
    method, (algorithm, bits) = next(row for row in PLAIN_ECDSA.items() if row[1][1] == key.curve.key_size)
    half = (bits + 7) // 8
    numbers = decode_dss_signature(key.sign(octets, ec.ECDSA(algorithm())))
    return Authentication(method, b"".join(number.to_bytes(half) for number in numbers))


def verify(key: object, auth: Authentication, octets: bytes) -> None:
    """Check a stranger's AUTH payload against a public key; :class:`Malformed` where it does not hold."""
    try:
        _verify(key, auth, octets)
    except InvalidSignature:
        raise Malformed("the signature is wrong", why="it was not made with the certificate's key") from None


def _verify(key: object, auth: Authentication, octets: bytes) -> None:
    if auth.method in PLAIN_ECDSA:
        algorithm, bits = PLAIN_ECDSA[auth.method]
        if not isinstance(key, ec.EllipticCurvePublicKey) or key.curve.key_size != bits:
            raise Malformed("the signature does not fit", why="the certificate's key is of another kind")
        half = (bits + 7) // 8
        if len(auth.data) != 2 * half:
            raise Malformed("the signature is malformed", why=f"{len(auth.data)} octets instead of {2 * half}")
        pair = encode_dss_signature(int.from_bytes(auth.data[:half]), int.from_bytes(auth.data[half:]))
        key.verify(pair, octets, ec.ECDSA(algorithm()))
        return
    if auth.method == AuthMethod.RSA_DIGITAL_SIGNATURE:
        raise Malformed("the signature is refused", why="its method is RSA with SHA-1 (RFC 8247 §3.2: MUST NOT)")
    if auth.method != AuthMethod.DIGITAL_SIGNATURE:
        raise Malformed("the signature is refused", why=f"authentication method {auth.method} is not a signature")
    cursor = Cursor(auth.data, "a signature")
    identifier = cursor.take(cursor.u8())
    _verify_identified(key, identifier, cursor.rest(), octets)


def _verify_identified(key: object, identifier: bytes, signature: bytes, octets: bytes) -> None:
    """RFC 7427 §3: the algorithm is what its AlgorithmIdentifier says, however that is written (RFC 4055 §2.1)."""
    if (identifier == ED25519 and isinstance(key, ed25519.Ed25519PublicKey)) or (
        identifier == ED448 and isinstance(key, ed448.Ed448PublicKey)
    ):
        key.verify(signature, octets)
        return
    oid, scheme, algorithm = signature_algorithm_untrusted(identifier)
    if not isinstance(algorithm, SHA2) or not _mask_is_sha2(scheme):
        name = getattr(algorithm, "name", oid)
        raise Malformed("the signature is refused", why=f"its hash {name} is not SHA-2 (RFC 8247 §3.2)")
    if isinstance(scheme, ec.ECDSA) and isinstance(key, ec.EllipticCurvePublicKey):
        try:
            decode_dss_signature(signature)
        except ValueError:
            raise Malformed("the signature is malformed", why="it is not an ECDSA signature") from None
        key.verify(signature, octets, scheme)
    elif isinstance(scheme, padding.PKCS1v15 | padding.PSS) and isinstance(key, rsa.RSAPublicKey):
        key.verify(signature, octets, scheme, algorithm)
    else:
        raise Malformed("the signature is refused", why=f"its algorithm {oid} does not fit the certificate's key")


def _mask_is_sha2(scheme: object) -> bool:
    """RFC 4055 §3.1: the hash of RSASSA-PSS's mask generation is named apart from the one of the message."""
    if not isinstance(scheme, padding.PSS):
        return True
    algorithm = getattr(scheme.mgf, "_algorithm", None)
    return isinstance(algorithm, SHA2)
