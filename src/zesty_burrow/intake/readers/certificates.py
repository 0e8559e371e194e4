"""Certificates as they travel apart from settings: PEM (several in one file), DER, PKCS #7 (RFC 2315, RFC 5652)."""

from __future__ import annotations

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.serialization import Encoding, pkcs7

from zesty_burrow.core.certificates import trust
from zesty_burrow.errors import Malformed

PEM_CERTIFICATE, PKCS7_MARK = b"-----BEGIN CERTIFICATE-----", b"-----BEGIN PKCS7-----"
MAX_CERTIFICATES = 200


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
