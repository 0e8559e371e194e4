"""Parts of X.509 structures that come by themselves, read by the library inside a certification request (RFC 2986)."""

from __future__ import annotations

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm

from zesty_burrow.errors import Malformed

ED25519_KEY = bytes.fromhex("302a300506032b6570032100") + bytes(32)
ED25519_ALGORITHM = bytes.fromhex("300506032b6570")
EMPTY_NAME = bytes.fromhex("3000")


def _sequence(content: bytes) -> bytes:
    size = len(content)
    if size < 0x80:
        return b"\x30" + bytes([size]) + content
    length = size.to_bytes((size.bit_length() + 7) // 8)
    return b"\x30" + bytes([0x80 | len(length)]) + length + content


def _request(name: bytes, algorithm: bytes) -> x509.CertificateSigningRequest:
    """A request with that subject, signed by that algorithm. Raises ``ValueError``."""
    info = _sequence(b"\x02\x01\x00" + name + ED25519_KEY + b"\xa0\x00")
    return x509.load_der_x509_csr(_sequence(info + algorithm + b"\x03\x02\x00\x00"))


def name_of_der_untrusted(data: bytes) -> x509.Name:
    """A stranger's distinguished name (RFC 5280 §4.1.2.4), DER; raises only :class:`Malformed`."""
    try:
        name = _request(data, ED25519_ALGORITHM).subject
    except (ValueError, TypeError):
        raise Malformed("a distinguished name is malformed", why="it is not a Name (RFC 5280 §4.1.2.4)") from None
    return name


def signature_algorithm_untrusted(data: bytes) -> tuple[str, object, object]:
    """A stranger's AlgorithmIdentifier (RFC 5280 §4.1.1.2), DER; raises only :class:`Malformed`.

    Its OID, and its parameters and its hash as the library has them.
    """
    try:
        request = _request(EMPTY_NAME, data)
        oid = request.signature_algorithm_oid.dotted_string
        return oid, request.signature_algorithm_parameters, request.signature_hash_algorithm
    except (ValueError, TypeError, UnsupportedAlgorithm) as problem:
        raise Malformed("a signature's algorithm cannot be used", why=f"{problem!s:.120}") from None
