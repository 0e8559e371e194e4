"""What the corpus is made of: the story's certificates and keys, in every form and with every fault."""

from __future__ import annotations

import email.message
import email.policy
import functools
import gzip
import io
import lzma
import tarfile
import zipfile
from datetime import UTC, datetime, timedelta

import segno
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    PrivateFormat,
    pkcs7,
    pkcs12,
)
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from support import AUTHORITY, PASSWORD
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import issue, make_authority
from zesty_burrow.lab.kit import kit_files, place_profile
from zesty_burrow.profiles.change_protocol import with_protocol
from zesty_burrow.profiles.text import write_profile

NOW = datetime.now(UTC).replace(microsecond=0)
PASSPHRASE = "stormy petrel over the skerries"
SECRETS = (PASSWORD, PASSPHRASE)
FILES = kit_files(AUTHORITY.pem(), PASSWORD)
CA = AUTHORITY.pem()
CA_DER = AUTHORITY.certificate.public_bytes(Encoding.DER)
LISBON = FILES["profiles/quillwort-lisbon.toml"]
TALLINN = FILES["profiles/quillwort-tallinn.toml"]
CREDENTIALS = FILES["credentials.txt"]
CLIENT = ec.generate_private_key(ec.SECP256R1())
OTHER = ec.generate_private_key(ec.SECP256R1())
CLIENT_CERTIFICATE = issue(AUTHORITY, CLIENT, "heron.tidewrack.example", purposes=(ExtendedKeyUsageOID.CLIENT_AUTH,))
GATEWAY_CERTIFICATE = issue(AUTHORITY, OTHER, "lisbon.quillwort.example")


def pem(der):
    """A certificate's DER as PEM."""
    return x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM)


def key(private=CLIENT, encoding=Encoding.PEM, form=PrivateFormat.PKCS8, passphrase=""):
    """A private key as a file."""
    lock = BestAvailableEncryption(passphrase.encode()) if passphrase else NoEncryption()
    return private.private_bytes(encoding, form, lock)


def bundle(passphrase=PASSPHRASE, private=CLIENT, certificate=CLIENT_CERTIFICATE):
    """PKCS #12 with key, certificate and authority."""
    lock = BestAvailableEncryption(passphrase.encode()) if passphrase else NoEncryption()
    own = x509.load_der_x509_certificate(certificate)
    return pkcs12.serialize_key_and_certificates(b"heron", private, own, [AUTHORITY.certificate], lock)


@functools.cache
def small_rsa():
    """A key that is too weak."""
    return rsa.generate_private_key(public_exponent=65537, key_size=1024)


def edwards():
    """An Ed25519 key."""
    return ed25519.Ed25519PrivateKey.from_private_bytes(bytes(range(32)))


def old_authority(days=(-4000, -400)):
    """An authority whose time is over (or has not come yet)."""
    return authority_of(make_authority("Quillwort Relay").key, days)


def authority_of(private, days=(-1, 3650), issuing=True):
    """A self-signed certificate with chosen dates."""
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Quillwort Relay Authority")])
    return (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(private.public_key())
        .serial_number(7)
        .not_valid_before(NOW + timedelta(days=days[0]))
        .not_valid_after(NOW + timedelta(days=days[1]))
        .add_extension(x509.BasicConstraints(ca=issuing, path_length=None), critical=True)
        .sign(private, hashes.SHA256())
        .public_bytes(Encoding.PEM)
    )


def revocations(*serials, days=(-1, 30), signer=None, encoding=Encoding.PEM):
    """A revocation list of the provider's authority."""
    signer = signer or AUTHORITY
    builder = (
        x509.CertificateRevocationListBuilder()
        .issuer_name(AUTHORITY.certificate.subject)
        .last_update(NOW + timedelta(days=days[0]))
        .next_update(NOW + timedelta(days=days[1]))
    )
    for serial in serials:
        row = x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(NOW - timedelta(days=1)).build()
        builder = builder.add_revoked_certificate(row)
    return builder.sign(signer.key, hashes.SHA256()).public_bytes(encoding)


def serial(der):
    return x509.load_der_x509_certificate(der).serial_number


def zipped(files, compression=zipfile.ZIP_DEFLATED):
    """Files as a ZIP archive."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", compression) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return stream.getvalue()


def tarred(files, pack=lambda data: data, kind=tarfile.PAX_FORMAT):
    """Files as a TAR archive, perhaps packed."""
    stream = io.BytesIO()
    with tarfile.open(fileobj=stream, mode="w", format=kind) as archive:
        for name, data in files.items():
            entry = tarfile.TarInfo(name)
            entry.size = len(data)
            archive.addfile(entry, io.BytesIO(data))
    return pack(stream.getvalue())


def gzipped(data):
    return gzip.compress(data, mtime=0)


def xz(data):
    return lzma.compress(data)


def mail(text, html=False, attach=()):
    """A provider's mail."""
    message = email.message.EmailMessage(policy=email.policy.SMTP)
    message["From"], message["To"] = "help@quillwort.example", "admin@tidewrack.example"
    message["Subject"], message["Date"] = "Willkommen – your account", "Mon, 02 Nov 2026 09:00:00 +0000"
    if html:
        page = "".join(f"<p>{line}</p>" for line in text.splitlines())
        message.set_content(f"<html><body>{page}</body></html>", subtype="html", cte="quoted-printable")
    else:
        message.set_content(text)
    for name, data in attach:
        message.add_attachment(data, maintype="application", subtype="octet-stream", filename=name)
    return message.as_bytes()


def picture(data, kind="png"):
    """A QR code as a picture."""
    stream = io.BytesIO()
    segno.make_qr(data, mode="byte", error="m").save(stream, kind=kind, scale=4)
    return stream.getvalue()


def profile(place="lisbon", **changes):
    """The story's profile of a place, changed; its authority inside."""
    from dataclasses import replace

    made = replace(place_profile(story.PLACE_BY_NAME[place]), authorities=(CA.decode(),))
    return write_profile(replace(made, **changes)).encode()


def over_http(place="lisbon"):
    """The same gateway by CONNECT-IP."""
    from dataclasses import replace

    made = with_protocol(place_profile(story.PLACE_BY_NAME[place]), "connect-ip")
    return write_profile(replace(made, authorities=(CA.decode(),))).encode()


def without(text, *lines):
    """A profile's text without the lines that begin so."""
    kept = [line for line in text.decode().splitlines() if not line.startswith(lines)]
    return ("\n".join(kept) + "\n").encode()


PKCS7_BUNDLE = pkcs7.serialize_certificates([AUTHORITY.certificate], Encoding.DER)
