"""Certificates and revocation lists as other authorities make them, on cryptography alone."""

from __future__ import annotations

import itertools
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.name import _ASN1Type
from cryptography.x509.oid import NameOID

PRINTABLE, UTF8 = _ASN1Type.PrintableString, _ASN1Type.UTF8String
POINT = x509.CRLDistributionPoints(
    [x509.DistributionPoint([x509.UniformResourceIdentifier("http://crl.quillwort.example/all.crl")], None, None, None)]
)
_serials = itertools.count(1000)


def name(common, organisation="Quillwort Relay", country="PT", kind=UTF8, fold=str):
    """A distinguished name of three parts, in one encoding or the other."""
    rows = [(NameOID.ORGANIZATION_NAME, fold(organisation)), (NameOID.COMMON_NAME, fold(common))]
    made = [x509.NameAttribute(oid, value, _type=kind) for oid, value in rows]
    return x509.Name([x509.NameAttribute(NameOID.COUNTRY_NAME, country), *made])


def make_key(kind="ecdsa"):
    if kind == "rsa":
        return rsa.generate_private_key(public_exponent=65537, key_size=2048)
    return ec.generate_private_key(ec.SECP256R1())


class Issuer:
    """An authority, or one below another."""

    def __init__(self, subject, above=None):
        self.key, self.subject, self.above = make_key(), subject, above
        signer = above or self
        self.certificate = _builder(subject, signer.subject, self.key.public_key()).add_extension(
            x509.BasicConstraints(ca=True, path_length=None), critical=True
        ).add_extension(_usage(True), critical=True).sign(signer.key, hashes.SHA256())  # fmt: skip

    @property
    def pem(self):
        return self.certificate.public_bytes(Encoding.PEM).decode()

    def issue(self, key, subject, host="", extensions=()):
        """An end entity's certificate, DER."""
        made = _builder(subject, self.subject, key.public_key())
        made = made.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        made = made.add_extension(_usage(False), critical=True)
        if host:
            made = made.add_extension(x509.SubjectAlternativeName([x509.DNSName(host)]), critical=False)
        for one in extensions:
            made = made.add_extension(one, critical=False)
        return made.sign(self.key, hashes.SHA256()).public_bytes(Encoding.DER)

    def revocations(self, *serials, days=(-10, 20)):
        """A revocation list, PEM; ``days``: from when it is and when the next one is due."""
        now = datetime.now(UTC)
        made = x509.CertificateRevocationListBuilder().issuer_name(self.subject)
        made = made.last_update(now + timedelta(days=days[0])).next_update(now + timedelta(days=days[1]))
        for serial in serials:
            row = (
                x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(now - timedelta(days=15)).build()
            )
            made = made.add_revoked_certificate(row)
        return made.sign(self.key, hashes.SHA256()).public_bytes(Encoding.PEM).decode()


def _builder(subject, issuer, public):
    now = datetime.now(UTC)
    made = x509.CertificateBuilder().subject_name(subject).issuer_name(issuer).public_key(public)
    return (
        made.serial_number(next(_serials))
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=90))
    )


def _usage(issuing):
    return x509.KeyUsage(
        digital_signature=not issuing, content_commitment=False, key_encipherment=False, data_encipherment=False,
        key_agreement=False, key_cert_sign=issuing, crl_sign=issuing, encipher_only=False, decipher_only=False,
    )  # fmt: skip


def with_version(der, version):
    """The same certificate with another number in its version field; its signature does not matter to a reader."""
    at = der.index(bytes.fromhex("a003020102"))
    return der[: at + 4] + bytes([version]) + der[at + 5 :]


def _sequence(content, tag=0x30):
    assert len(content) < 128
    return bytes([tag, len(content)]) + content


def pss(digest, salt, *, null):
    """RFC 4055 §3.1: AlgorithmIdentifier of RSASSA-PSS, the hash's parameters NULL or absent."""
    number = {"sha256": 1, "sha384": 2, "sha512": 3}[digest.name]
    algorithm = _sequence(bytes.fromhex("06096086480165030402") + bytes([number]) + (b"\5\0" if null else b""))
    mask = _sequence(bytes.fromhex("06092a864886f70d010108") + algorithm)
    parameters = _sequence(algorithm, 0xA0) + _sequence(mask, 0xA1)
    parameters += b"" if salt == 20 else _sequence(b"\2\1" + bytes([salt]), 0xA2)
    return _sequence(bytes.fromhex("06092a864886f70d01010a") + _sequence(parameters))


def sign(key, octets, algorithm=b"", digest=hashes.SHA256, salt=32):
    """The body of an AUTH payload by RFC 7427: ECDSA, or RSASSA-PSS with its ``algorithm`` as it is given."""
    if isinstance(key, ec.EllipticCurvePrivateKey):
        algorithm, made = bytes.fromhex("300a06082a8648ce3d040302"), key.sign(octets, ec.ECDSA(hashes.SHA256()))
    else:
        made = key.sign(octets, padding.PSS(padding.MGF1(digest()), salt), digest())
    return b"\x0e\0\0\0" + bytes([len(algorithm)]) + algorithm + made
