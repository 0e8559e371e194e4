"""A phone's trust store: it shows what would be trusted, asks, and takes nothing that its owner has not agreed to."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.hazmat.primitives.serialization.pkcs12 import load_pkcs12

from zesty_burrow.core.credentials import ClientKey
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import InputError, Malformed, StateError, printable
from zesty_burrow.records import dataclass, field

AUTHORITY, OWN_KEY = "application/x-x509-ca-cert", "application/pkcs12"
"""Media types of what can be opened (RFC 7292 for the second)."""
LONGEST = 1 << 16
"""Octets of a file."""


@dataclass(slots=True)
class TrustStore:
    """``clock``: the phone's. ``authorities``: PEM, in the order in which they came."""

    clock: Callable[[], datetime]
    authorities: list[str] = field(default_factory=list)
    own: ClientKey | None = field(default=None, repr=False)
    _asked: x509.Certificate | None = None

    def open(self, octets: bytes) -> dict[str, str]:
        """Open a certificate, DER; what the question shows. It is not trusted before :meth:`answer`."""
        try:
            found = x509.load_der_x509_certificate(octets[:LONGEST])
        except ValueError:
            raise Malformed("this is no certificate", next_step="Open the certificate from the page again.") from None
        self._asked = found
        note = ""
        if self.clock() < found.not_valid_before_utc:
            note = "by this phone's clock it is not valid yet"
        elif self.clock() > found.not_valid_after_utc:
            note = "by this phone's clock it is not valid any more"
        return {
            "subject": printable(found.subject.rfc4514_string()),
            "until": found.not_valid_after_utc.strftime("%Y-%m-%d"),
            "fingerprint": found.fingerprint(SHA256()).hex(":").upper(),
            "note": note,
        }

    def answer(self, *, agreed: bool) -> None:
        """Answer the open question. Raises :class:`StateError` without a question."""
        if self._asked is None:
            raise StateError("the trust store has asked nothing", next_step="Open a certificate first.")
        pem = self._asked.public_bytes(Encoding.PEM).decode()
        self._asked = None
        if agreed and pem not in self.authorities:
            self.authorities.append(pem)

    def install_key(self, octets: bytes, passphrase: str) -> str:
        """A key of the phone's own, PKCS #12; the name of its certificate. Typing the passphrase is the consent."""
        try:
            found = load_pkcs12(octets[:LONGEST], passphrase.encode())
        except ValueError:
            raise InputError(
                "the file of the key does not open", why="it is not PKCS #12, or the passphrase is wrong"
            ) from None
        if found.key is None or found.cert is None:
            raise InputError("the file has no key in it", why="it holds certificates alone")
        pem = found.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        shown = [found.cert, *found.additional_certs]
        self.own = ClientKey(Secret(pem), tuple(one.certificate.public_bytes(Encoding.PEM).decode() for one in shown))
        return printable(found.cert.certificate.subject.rfc4514_string())
