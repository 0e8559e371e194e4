"""What is handed over to a device with this program: profiles and credentials, encrypted to the device's key.

The content is encrypted by HPKE in base mode (RFC 9180: DHKEM(X25519, HKDF-SHA256), HKDF-SHA256, AES-256-GCM) and the
whole is signed by the administrator (Ed25519, RFC 8032). Recipient, administrator and number are part of what is signed
and of HPKE's ``info``: a bundle that is changed, that is for another device, or that came before is refused.
"""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Mapping
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hpke

from zesty_burrow.core.credentials import Credentials, from_document, to_document
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.scope import Scope
from zesty_burrow.errors import InputError, Malformed
from zesty_burrow.fleet.keys import ADMINISTRATOR, DEVICE, OwnKeys, PublicKey, read_key
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.records import dataclass, field

FORMAT = 1
LONGEST = 4 << 20
MAX_PROFILES, MAX_CREDENTIALS = 1000, 1000
SUITE = hpke.Suite(hpke.KEM.X25519, hpke.KDF.HKDF_SHA256, hpke.AEAD.AES_256_GCM)
LABEL = b"zesty-burrow bundle 1"


@dataclass(frozen=True, slots=True)
class Bundle:
    """``number``: higher than of any before for the device; ``device``: its name in the administrator's list.

    ``texts``: the profiles' by their names; ``profiles``: the same, read. ``report_to``: where the device is to report
    to, with the authority (PEM) of the server there where it is not one of the system's.
    """

    number: int
    device: str
    made_at: str
    texts: Mapping[str, str]
    credentials: tuple[tuple[Scope, Credentials], ...] = field(default=(), repr=False)
    administrator: PublicKey | None = None
    report_to: str = ""
    report_authority: str = ""

    @property
    def profiles(self) -> list[Profile]:
        """Raises :class:`ProfileInvalid`."""
        return [read_profile(text, f"profile {name}") for name, text in self.texts.items()]


def _bound(administrator: PublicKey, device: PublicKey, number: int) -> bytes:
    return LABEL + administrator.octets + device.octets + number.to_bytes(8)


def seal_bundle(bundle: Bundle, device: PublicKey, own: OwnKeys) -> bytes:
    """For the device with that key, signed with the administrator's ``own``."""
    administrator = own.public(ADMINISTRATOR)
    content = {
        "device": bundle.device,
        "made_at": bundle.made_at,
        "report_to": bundle.report_to,
        "report_authority": bundle.report_authority,
        "profiles": dict(bundle.texts),
        "credentials": [
            {"label": scope.label, "device": scope.device, "profile": scope.profile, "value": to_document(value)}
            for scope, value in bundle.credentials
        ],
    }
    bound = _bound(administrator, device, bundle.number)
    sealed = SUITE.encrypt(json.dumps(content).encode(), device.agreement, info=bound)
    document = {
        "zesty-burrow": "bundle",
        "format": FORMAT,
        "administrator": administrator.text,
        "device": device.text,
        "number": bundle.number,
        "sealed": base64.b64encode(sealed).decode(),
        "signature": base64.b64encode(own.sign(bound + sealed)).decode(),
    }
    return (json.dumps(document, indent=1) + "\n").encode()


def open_bundle(data: bytes, own: OwnKeys) -> Bundle:
    """With the device's ``own`` keys. Raises :class:`Malformed` for what is no bundle, or :class:`InputError`."""
    document = _document(data)
    administrator = read_key(str(document["administrator"]), ADMINISTRATOR)
    device = read_key(str(document["device"]), DEVICE)
    if device != own.public(DEVICE):
        raise InputError(
            "this bundle is for another device",
            why=f"it was made for the key {device.code}, this device has {own.public(DEVICE).code}",
            next_step="Send `zesty enrol` of this device to the administrator again.",
            slug="bundle-for-another",
        )
    number, sealed, signature = document["number"], _octets(document, "sealed"), _octets(document, "signature")
    if not isinstance(number, int) or isinstance(number, bool) or not 0 < number < 1 << 63:
        raise Malformed("this file is not a bundle", why="its number is missing or not a whole number")
    bound = _bound(administrator, device, number)
    administrator.verify(signature, bound + sealed)
    try:
        content = json.loads(SUITE.decrypt(sealed, own.agreement, info=bound))
    except (InvalidTag, ValueError, RecursionError):
        raise Malformed("this bundle cannot be opened", why="it was changed, or made for another key") from None
    return _content(content, number, administrator)


def _document(data: bytes) -> dict[str, Any]:
    if len(data) > LONGEST:
        raise Malformed("this is no bundle", why=f"it is longer than {LONGEST >> 20} MiB")
    try:
        document = json.loads(data)
    except (ValueError, RecursionError):
        document = None
    if not isinstance(document, dict) or document.get("zesty-burrow") != "bundle":
        raise Malformed("this is no bundle", why="what an administrator has made for this device is needed")
    if document.get("format") != FORMAT:
        raise Malformed(
            "this bundle is not understood",
            why=f"its form is {document.get('format')!r:.20}, this program knows {FORMAT}",
            next_step="Update zesty-burrow on this device.",
        )
    missing = {"administrator", "device", "number", "sealed", "signature"} - document.keys()
    if missing:
        raise Malformed("this bundle is not whole", why=f"{min(missing)} is missing")
    return document


def _octets(document: Mapping[str, Any], key: str) -> bytes:
    try:
        return base64.b64decode(str(document[key]), validate=True)
    except (binascii.Error, ValueError):
        raise Malformed("this bundle is damaged", why=f"{key} is not in base64") from None


def _content(content: Any, number: int, administrator: PublicKey) -> Bundle:
    """Signed by somebody who may still be nobody that one would trust: read as a stranger's."""
    try:
        texts = {str(name): str(text) for name, text in content["profiles"].items()}
        rows = content["credentials"]
        if len(texts) > MAX_PROFILES or len(rows) > MAX_CREDENTIALS:
            raise Malformed("this bundle is too large", why=f"more than {MAX_PROFILES} profiles or credentials")
        kept = tuple(
            (Scope(*(str(row[key]) for key in ("label", "device", "profile"))), from_document(row["value"]))
            for row in rows
        )
        bundle = Bundle(
            number,
            str(content["device"]),
            str(content["made_at"]),
            texts,
            kept,
            administrator,
            str(content.get("report_to", "")),
            str(content.get("report_authority", "")),
        )
    except (KeyError, TypeError, AttributeError):
        raise Malformed("this bundle is not whole", why="a part of its content is missing") from None
    names = [profile.name for profile in bundle.profiles]
    if names != list(texts):
        raise Malformed("this bundle is not whole", why="a profile has another name than it says")
    return bundle
