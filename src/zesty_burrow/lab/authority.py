"""Certificates for the lab: the provider's authority, its gateways, and certificates with faults."""

from __future__ import annotations

import ssl
import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from zesty_burrow.core.certificates.trust import IPSEC_IKE
from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.records import dataclass
from zesty_burrow.store.seal import write_private


@dataclass(frozen=True, slots=True)
class Authority:
    """A certificate authority with its key."""

    certificate: x509.Certificate
    key: ec.EllipticCurvePrivateKey

    def pem(self) -> bytes:
        return self.certificate.public_bytes(Encoding.PEM)


def _name(common: str, organisation: str) -> x509.Name:
    return x509.Name(
        [x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation), x509.NameAttribute(NameOID.COMMON_NAME, common)]
    )


def make_authority(organisation: str, days: int = 3650) -> Authority:
    """A new authority, 384-bit ECDSA, valid from yesterday."""
    key = ec.generate_private_key(ec.SECP384R1())
    name = _name(f"{organisation} Authority", organisation)
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .add_extension(_usage(issuing=True), critical=True)
        .sign(key, hashes.SHA384())
    )
    return Authority(certificate, key)


def _usage(*, issuing: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=not issuing,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=issuing,
        crl_sign=issuing,
        encipher_only=False,
        decipher_only=False,
    )


def make_key(kind: str) -> PrivateKey:
    """A gateway's key: ``rsa`` (2048 bits, quick to make) or ``ecdsa`` (P-256)."""
    if kind == "rsa":
        return rsa.generate_private_key(public_exponent=65537, key_size=2048)
    return ec.generate_private_key(ec.SECP256R1())


def issue(
    authority: Authority,
    key: PrivateKey,
    host_name: str,
    *,
    start_days: float = -1,
    end_days: float = 90,
    purposes: Sequence[x509.ObjectIdentifier] = (IPSEC_IKE, ExtendedKeyUsageOID.SERVER_AUTH),
) -> bytes:
    """A gateway's certificate, DER; or, by ``purposes``, a server's or a client's. Days count from now."""
    now = datetime.now(UTC)
    organisation = authority.certificate.subject.get_attributes_for_oid(NameOID.ORGANIZATION_NAME)[0].value
    certificate = (
        x509.CertificateBuilder()
        .subject_name(_name(host_name, str(organisation)))
        .issuer_name(authority.certificate.subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now + timedelta(days=start_days))
        .not_valid_after(now + timedelta(days=end_days))
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(host_name)]), critical=False)
        .add_extension(x509.ExtendedKeyUsage(purposes), critical=False)
        .add_extension(_usage(issuing=False), critical=True)
        .sign(authority.key, hashes.SHA384())
    )
    return certificate.public_bytes(Encoding.DER)


def write_certificate(files: tuple[Path, Path], authority: Authority, name: str) -> None:
    """A server's certificate for ``name``, and its key, as new files (PEM) that only their owner reads."""
    key = make_key("ecdsa")
    shown = x509.load_der_x509_certificate(issue(authority, key, name))
    write_private(files[0], shown.public_bytes(Encoding.PEM))
    write_private(files[1], key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))


def use_certificate(context: ssl.SSLContext, authority: Authority, key: PrivateKey, name: str) -> None:
    """Have a TLS server prove a name under an authority from now on."""
    der = issue(authority, key, name, purposes=(ExtendedKeyUsageOID.SERVER_AUTH,))
    with tempfile.NamedTemporaryFile(suffix=".pem") as file:
        # The standard library loads keys from files alone; this one is made with mode 0600 and is gone at once.
        file.write(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
        file.write(x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM))
        file.flush()
        context.load_cert_chain(Path(file.name))
