"""Signatures in the AUTH payload: RFC 7427 and RFC 8420 (method 14), RFC 4754 (methods 9 to 11).

RSA with SHA-1 (method 1) is refused.
"""

from __future__ import annotations

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature, encode_dss_signature

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

# RFC 7427 appendix A: the AlgorithmIdentifier objects, octet for octet.
RSA_SHA2: dict[bytes, Hash] = {
    bytes.fromhex("300d06092a864886f70d01010b0500"): hashes.SHA256,
    bytes.fromhex("300d06092a864886f70d01010c0500"): hashes.SHA384,
    bytes.fromhex("300d06092a864886f70d01010d0500"): hashes.SHA512,
}
ECDSA_SHA2: dict[bytes, Hash] = {
    bytes.fromhex("300a06082a8648ce3d040302"): hashes.SHA256,
    bytes.fromhex("300a06082a8648ce3d040303"): hashes.SHA384,
    bytes.fromhex("300a06082a8648ce3d040304"): hashes.SHA512,
}


def _pss_identifier(hash_number: int, salt: int, *, with_trailer: bool) -> bytes:
    """RSASSA-PSS with its parameters (RFC 4055 §3.1); RFC 7427 §A.4.3 shows the form with the default trailer."""
    sha2 = bytes.fromhex("300d06096086480165030402") + bytes([hash_number, 5, 0])
    mask = b"\x30\x1a\x06\x09" + bytes.fromhex("2a864886f70d010108") + sha2
    inner = b"\xa0\x0f" + sha2 + b"\xa1\x1c" + mask + b"\xa2\x03\x02\x01" + bytes([salt])
    if with_trailer:
        inner += b"\xa3\x03\x02\x01\x01"
    body = b"\x06\x09" + bytes.fromhex("2a864886f70d01010a") + b"\x30" + bytes([len(inner)]) + inner
    return b"\x30" + bytes([len(body)]) + body


RSA_PSS: dict[bytes, Hash] = {
    _pss_identifier(number, salt, with_trailer=trailer): algorithm
    for trailer in (False, True)
    for number, salt, algorithm in ((1, 32, hashes.SHA256), (2, 48, hashes.SHA384), (3, 64, hashes.SHA512))
}
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
        identifier, algorithm = next(iter(RSA_PSS.items()))
        signature = key.sign(octets, _pss(algorithm), algorithm())
    else:
        wanted = {256: hashes.SHA256, 384: hashes.SHA384, 521: hashes.SHA512}[key.curve.key_size]
        identifier, algorithm = next(row for row in ECDSA_SHA2.items() if row[1] is wanted)
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


def _pss(algorithm: Hash) -> padding.PSS:
    return padding.PSS(padding.MGF1(algorithm()), algorithm.digest_size)


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
    if (identifier == ED25519 and isinstance(key, ed25519.Ed25519PublicKey)) or (
        identifier == ED448 and isinstance(key, ed448.Ed448PublicKey)
    ):
        key.verify(signature, octets)
    elif identifier in ECDSA_SHA2 and isinstance(key, ec.EllipticCurvePublicKey):
        try:
            decode_dss_signature(signature)
        except ValueError:
            raise Malformed("the signature is malformed", why="it is not an ECDSA signature") from None
        key.verify(signature, octets, ec.ECDSA(ECDSA_SHA2[identifier]()))
    elif identifier in RSA_SHA2 and isinstance(key, rsa.RSAPublicKey):
        key.verify(signature, octets, padding.PKCS1v15(), RSA_SHA2[identifier]())
    elif identifier in RSA_PSS and isinstance(key, rsa.RSAPublicKey):
        key.verify(signature, octets, _pss(RSA_PSS[identifier]), RSA_PSS[identifier]())
    else:
        raise Malformed(
            "the signature is refused", why=f"its algorithm {identifier.hex()} does not fit the key or is not SHA-2"
        )
