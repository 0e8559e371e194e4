"""Certificates as they travel apart from settings: PEM (several in one file), DER, PKCS #7 (RFC 2315, RFC 5652)."""

from __future__ import annotations

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, pkcs7

from zesty_burrow.core.certificates import trust
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

PEM_CERTIFICATE, PKCS7_MARK = b"-----BEGIN CERTIFICATE-----", b"-----BEGIN PKCS7-----"
MAX_CERTIFICATES = 200
MAX_NAMES = 20


@dataclass(frozen=True, slots=True)
class CertificateFacts:
    """What a person compares and decides by. ``begins``, ``ends``: RFC 3339; ``sha256``: of the certificate in DER."""

    path: str
    subject: str
    issuer: str
    begins: str
    ends: str
    names: tuple[str, ...]
    key: str
    sha256: str
    is_authority: bool


def facts_of(path: str, certificate: x509.Certificate) -> CertificateFacts:
    """Of a certificate that was read."""
    digest = certificate.fingerprint(hashes.SHA256())
    return CertificateFacts(
        path,
        trust.subject_name(certificate),
        certificate.issuer.rfc4514_string(),
        certificate.not_valid_before_utc.isoformat(),
        certificate.not_valid_after_utc.isoformat(),
        _names(certificate),
        _key(certificate),
        ":".join(f"{octet:02X}" for octet in digest),
        trust.is_authority(certificate),
    )


def _names(certificate: x509.Certificate) -> tuple[str, ...]:
    """Of its subject alternative name (RFC 5280 §4.2.1.6)."""
    try:
        found = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        return ()
    return tuple(str(getattr(name, "value", name)) for name in found)[:MAX_NAMES]


def _key(certificate: x509.Certificate) -> str:
    try:
        key = certificate.public_key()
    except (ValueError, UnsupportedAlgorithm):
        return "a key of an unknown kind"
    if isinstance(key, rsa.RSAPublicKey):
        return f"RSA {key.key_size}"
    if isinstance(key, ec.EllipticCurvePublicKey):
        return f"EC {key.curve.name}"
    return type(key).__name__.removesuffix("PublicKey").strip("_")


def read_certificates_untrusted(data: bytes) -> list[x509.Certificate]:
    """All certificates in a stranger's file, whatever its form; raises only :class:`Malformed`."""
    if PEM_CERTIFICATE in data:
        return trust.load_pem_certificates_untrusted(data)
    try:
        found = trust.load_certificate_untrusted(data)
    except Malformed:
        return _read_pkcs7(data)
    return [found]


def _read_pkcs7(data: bytes) -> list[x509.Certificate]:
    load = pkcs7.load_pem_pkcs7_certificates if PKCS7_MARK in data else pkcs7.load_der_pkcs7_certificates
    try:
        found = load(data)
    except (ValueError, TypeError, UnsupportedAlgorithm):
        found = []
    if not 0 < len(found) <= MAX_CERTIFICATES:
        raise Malformed("a certificate file is malformed", why="it is neither PEM nor DER nor PKCS #7 that can be read")
    return [trust.load_certificate_untrusted(one.public_bytes(Encoding.DER)) for one in found]
