"""What a person types into a device's built-in client, in the order in which such forms ask for it.

First what it is, where to, and who is expected there; then who asks; the secrets come last.
"""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.credentials import Credentials, NamePassword, PreSharedKey, ProxyPassword
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.parts import device_of
from zesty_burrow.records import dataclass, field

SIGN_INS = {
    "eap-mschapv2": "EAP-MSCHAPv2",
    "eap-tls": "EAP-TLS",
    "ms-chap-v2": "MS-CHAPv2",
    "pre-shared-key": "pre-shared key",
    "chap": "CHAP",
    "pap": "PAP",
}
"""Ways to sign in, as the standards write them; the others as they are."""


@dataclass(frozen=True, slots=True)
class Field:
    """``key``: by which pages and cards know how it is called; ``is_secret``: shown last, and only when asked for."""

    key: str
    value: str = field(repr=False)
    is_secret: bool = False

    @property
    def document(self) -> dict[str, object]:
        """As plain values, for what is encrypted at once."""
        return {"key": self.key, "value": self.value, "secret": self.is_secret}


def fields_of(profile: Profile, credentials: Mapping[str, Credentials]) -> tuple[Field, ...]:
    """Settings first, then secrets."""
    settings = [
        Field("name", profile.name),
        Field("type", device_of(profile.tunnel.protocol).title),
        Field("server", profile.gateway.addresses[0]),
        *(Field(key, value) for key, value in profile.settings.typed(profile.gateway_identity.value)),
        Field("sign-in", SIGN_INS.get(profile.sign_in.method, profile.sign_in.method.replace("-", " "))),
    ]
    secrets: list[Field] = []
    for value in credentials.values():
        if isinstance(value, NamePassword):
            settings.append(Field("account", value.account))
            secrets.append(Field("password", value.password.text(), True))
        elif isinstance(value, ProxyPassword):
            settings.append(Field("proxy-account", value.name))
            secrets.append(Field("proxy-password", value.password.text(), True))
        elif isinstance(value, PreSharedKey):
            secrets.append(Field("shared-key", value.key.octets().decode("utf-8", "replace"), True))
    return (*settings, *secrets)
