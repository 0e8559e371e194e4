"""What stands on a card: every field in the order in which it is typed, and the secret on a part that is torn off."""

from __future__ import annotations

from collections.abc import Mapping

from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256

from zesty_burrow.core.credentials import Credentials
from zesty_burrow.core.profile import Profile
from zesty_burrow.fleet.links.fields import fields_of
from zesty_burrow.fleet.links.texts import page_texts
from zesty_burrow.records import dataclass, field
from zesty_burrow.store.devices import Device

LANGUAGES = ("en", "de", "es", "fr")
Row = tuple[str, str]
"""A label and its value."""


@dataclass(frozen=True, slots=True)
class Card:
    """``rows`` and ``secrets`` in typing order; ``certificates``: name, end, first and last octets of SHA-256."""

    language: str
    device: str
    owner: str
    rows: tuple[Row, ...]
    secrets: tuple[Row, ...] = field(repr=False)
    certificates: tuple[tuple[str, str, str], ...] = ()

    def say(self, name: str, **values: str) -> str:
        """A text of the card's language."""
        text = page_texts()[self.language][name]
        for key, value in values.items():
            text = text.replace(f"{{{key}}}", value)
        return text

    @property
    def title(self) -> str:
        return self.say("card-for", device=f"{self.device}, {self.owner}" if self.owner else self.device)

    @property
    def settings(self) -> str:
        """All that is no secret, for a code: a line a field."""
        return "\n".join(f"{label}: {value}" for label, value in self.rows)


def card_of(device: Device, profile: Profile, credentials: Mapping[str, Credentials], language: str) -> Card:
    words = page_texts()[language]
    fields = fields_of(profile, credentials)
    plain = tuple((words[f"field-{one.key}"], one.value) for one in fields if not one.is_secret)
    secret = tuple((words[f"field-{one.key}"], one.value) for one in fields if one.is_secret)
    shown = tuple(_certificate(pem) for pem in profile.authorities if "BEGIN CERTIFICATE" in pem)
    return Card(language, device.name, device.owner, plain, secret, shown)


def _certificate(pem: str) -> tuple[str, str, str]:
    one = x509.load_pem_x509_certificate(pem.encode())
    names = one.subject.get_attributes_for_oid(x509.NameOID.COMMON_NAME)
    octets = one.fingerprint(SHA256()).hex(":").upper()
    name = str(names[0].value) if names else one.subject.rfc4514_string()
    return name, one.not_valid_after_utc.strftime("%Y-%m-%d"), f"{octets[:23]} ... {octets[-23:]}"
