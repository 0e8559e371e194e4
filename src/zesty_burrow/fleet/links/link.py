"""A one-time link: what is behind it is encrypted under a key that stands in the link's fragment alone.

A browser never sends the fragment (RFC 3986 §3.5), so that whoever serves the page, or reads its log, has only what is
encrypted. AES-256-GCM, which browsers have (W3C Web Cryptography); the link's token is bound into it.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding
from cryptography.hazmat.primitives.serialization.pkcs12 import serialize_key_and_certificates

from zesty_burrow.core.credentials import ClientKey, Credentials
from zesty_burrow.core.crypto.private_key import load_private_key
from zesty_burrow.core.profile import Profile
from zesty_burrow.fleet.keys import LETTERS
from zesty_burrow.fleet.links.fields import Field, fields_of
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.records import dataclass, field
from zesty_burrow.store.devices import Device

TOKEN, KEY, NONCE = 16, 32, 12
AGAIN = timedelta(minutes=2)
"""For so long an answer that was lost on its way can be asked for again, by the same browser."""
FORMAT = 1
LABEL = b"zesty-burrow link 1"
OPENED, AGREED, CERTIFICATE, SETTINGS, CREDENTIALS, DONE, DECLINED = (
    "opened", "agreed", "certificate", "settings", "credentials", "done", "declined",
)  # fmt: skip
STEPS = (OPENED, AGREED, CERTIFICATE, SETTINGS, CREDENTIALS, DONE, DECLINED)
"""How far an owner can get, in order; the last one is an end of its own."""


@dataclass(frozen=True, slots=True)
class SealedLink:
    """``token`` names it; ``key`` opens it; ``sealed``: nonce, ciphertext and tag, for the server."""

    token: str
    key: bytes = field(repr=False)
    sealed: bytes = field(repr=False)

    def url(self, base: str) -> str:
        """As the owner gets it. ``base``: where the page is served."""
        return f"{base.rstrip('/')}/o/{self.token}#{_text(self.key)}"

    @property
    def name(self) -> str:
        """By which a server knows it: it does not keep what would open it."""
        return name_of(self.token)


def _text(octets: bytes) -> str:
    """base64url without padding (RFC 4648 §5)."""
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def earlier(now: str) -> str:
    """Until then a link must have been opened for its opener not to get it again. ``now``: RFC 3339."""
    return (datetime.strptime(now, TIME).replace(tzinfo=UTC) - AGAIN).strftime(TIME)


def name_of(token: str) -> str:
    """Of a token as it stands in a link."""
    return hashlib.sha256(token.encode()).hexdigest()


def seal_link(content: dict[str, Any], random: Callable[[int], bytes]) -> SealedLink:
    """Encrypt what the page shows. The token follows from the key: a page knows before it opens that a key is whole."""
    key, nonce = random(KEY), random(NONCE)
    token, data = token_of(key), json.dumps(content, ensure_ascii=False).encode()
    return SealedLink(token, key, nonce + AESGCM(key).encrypt(nonce, data, token.encode()))


def token_of(key: bytes) -> str:
    """As it stands in the link that has this key."""
    return _text(hashlib.sha256(LABEL + key).digest()[:TOKEN])


def page_content(
    device: Device, profile: Profile, credentials: Mapping[str, Credentials], random: Callable[[int], bytes], check: str
) -> dict[str, Any]:
    """What the page shows, in the order of handing over. ``check``: a page that tells whether it works, or empty.

    A key of the device's own goes as PKCS #12 (RFC 7292) under a passphrase that is typed once, when it is installed.
    """
    fields, identity = list(fields_of(profile, credentials)), None
    for value in credentials.values():
        if isinstance(value, ClientKey):
            passphrase = passphrase_of(random)
            fields.append(Field("identity-passphrase", passphrase, True))
            identity = _certificate(value.certificates[0])
            identity |= {"type": "application/pkcs12", "file": f"{profile.name}.p12"}
            identity["der"] = base64.b64encode(pkcs12_of(value, profile.name, passphrase)).decode()
    return {
        "format": FORMAT,
        "device": device.name,
        "owner": device.owner,
        "provider": profile.provider,
        "place": profile.place,
        "everything": profile.traffic.everything,
        "networks": [str(network) for network in profile.traffic.networks],
        "certificates": [_certificate(pem) for pem in profile.authorities if "BEGIN CERTIFICATE" in pem],
        "identity": identity,
        "fields": [one.document for one in fields],
        "check": check,
    }


def passphrase_of(random: Callable[[int], bytes]) -> str:
    """A fresh one of unmistakable letters, 80 bits."""
    letters = "".join(LETTERS[octet & 31] for octet in random(16))
    return "-".join(letters[at : at + 4] for at in range(0, len(letters), 4))


def pkcs12_of(value: ClientKey, name: str, passphrase: str) -> bytes:
    """Key and certificates, under PBES2 with AES-256 (RFC 8018), as RFC 9579 allows it."""
    key = load_private_key(value.key.octets())
    own, *others = [x509.load_pem_x509_certificate(pem.encode()) for pem in value.certificates]
    kept = BestAvailableEncryption(passphrase.encode())
    return serialize_key_and_certificates(name.encode(), key, own, others, kept)


def _certificate(pem: str) -> dict[str, str]:
    one = x509.load_pem_x509_certificate(pem.encode())
    names = one.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
    return {
        "name": str(names[0].value) if names else one.subject.rfc4514_string(),
        "until": one.not_valid_after_utc.strftime("%Y-%m-%d"),
        "fingerprint": one.fingerprint(SHA256()).hex(":").upper(),
        "der": base64.b64encode(one.public_bytes(Encoding.DER)).decode(),
    }
