"""What a person signs in with: every kind of secret, and how it is packed before it is sealed."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any

from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class NamePassword:
    """A name with its password; ``domain`` is the login domain of an organisation's accounts, if there is one."""

    name: str
    password: Secret
    domain: str = ""

    @property
    def account(self) -> str:
        """The name as it is sent: with the login domain before it (RFC 2759 §4: domain, backslash, name)."""
        return f"{self.domain}\\{self.name}" if self.domain and "\\" not in self.name else self.name


@dataclass(frozen=True, slots=True)
class ClientKey:
    """A private key (PKCS #8, PEM, without a passphrase) with its certificates, this side's own first (PEM)."""

    key: Secret
    certificates: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class PreSharedKey:
    """A key that both ends know (RFC 7296 §2.15)."""

    key: Secret


@dataclass(frozen=True, slots=True)
class AdditionalKey:
    """A key mixed in beside the key exchange, with its identifier (RFC 8784 §2)."""

    identifier: str
    key: Secret


@dataclass(frozen=True, slots=True)
class RawKey:
    """A private key (PKCS #8, PEM) whose public half the gateway knows (RFC 7670)."""

    key: Secret


@dataclass(frozen=True, slots=True)
class ProxyPassword:
    """Name and password for a proxy on the way (RFC 7617, RFC 1929)."""

    name: str
    password: Secret


Credentials = NamePassword | ClientKey | PreSharedKey | AdditionalKey | RawKey | ProxyPassword

KINDS: dict[type, CredentialsKind] = {
    NamePassword: CredentialsKind.NAME_PASSWORD,
    ClientKey: CredentialsKind.CLIENT_KEY,
    PreSharedKey: CredentialsKind.PRE_SHARED_KEY,
    AdditionalKey: CredentialsKind.ADDITIONAL_KEY,
    RawKey: CredentialsKind.RAW_KEY,
    ProxyPassword: CredentialsKind.PROXY_PASSWORD,
}


def kind_of(value: Credentials) -> CredentialsKind:
    """The kind of a value."""
    return KINDS[type(value)]


def _text(document: Mapping[str, Any], key: str) -> str:
    value = document[key]
    if not isinstance(value, str):
        raise TypeError(key)
    return value


def to_document(value: Credentials) -> dict[str, Any]:
    """Plain values, for what is sealed at once."""
    kind = kind_of(value)
    if isinstance(value, NamePassword):
        return {"kind": kind, "name": value.name, "password": value.password.text(), "domain": value.domain}
    if isinstance(value, ProxyPassword):
        return {"kind": kind, "name": value.name, "password": value.password.text()}
    if isinstance(value, ClientKey):
        return {"kind": kind, "key": value.key.text(), "certificates": list(value.certificates)}
    if isinstance(value, AdditionalKey):
        return {"kind": kind, "identifier": value.identifier, "key": _base64(value.key)}
    if isinstance(value, PreSharedKey):
        return {"kind": kind, "key": _base64(value.key)}
    return {"kind": kind, "key": value.key.text()}


def _base64(secret: Secret) -> str:
    return base64.b64encode(secret.octets()).decode()


def from_document(document: Mapping[str, Any], kind: str = "") -> Credentials:
    """The value again; raises only :class:`Malformed`."""
    try:
        which = CredentialsKind(document.get("kind") or kind or CredentialsKind.NAME_PASSWORD)
        if which is CredentialsKind.NAME_PASSWORD:
            domain = document.get("domain", "")
            return NamePassword(_text(document, "name"), Secret(_text(document, "password")), str(domain))
        if which is CredentialsKind.PROXY_PASSWORD:
            return ProxyPassword(_text(document, "name"), Secret(_text(document, "password")))
        if which is CredentialsKind.PRE_SHARED_KEY:
            return PreSharedKey(_unbase64(document))
        if which is CredentialsKind.ADDITIONAL_KEY:
            return AdditionalKey(_text(document, "identifier"), _unbase64(document))
        key = Secret(_text(document, "key"))
        if which is CredentialsKind.RAW_KEY:
            return RawKey(key)
        return ClientKey(key, tuple(str(one) for one in document["certificates"]))
    except (KeyError, TypeError, ValueError, AttributeError):
        raise Malformed("kept credentials are malformed", why="a part of them is missing or of another type") from None


def _unbase64(document: Mapping[str, Any]) -> Secret:
    return Secret(base64.b64decode(_text(document, "key"), validate=True))


def pack(value: Credentials) -> bytes:
    """The octets to be sealed."""
    return json.dumps(to_document(value)).encode()


def unpack(data: bytes, kind: str) -> Credentials:
    """From the octets that were sealed; raises only :class:`Malformed`."""
    try:
        document = json.loads(data)
    except ValueError:
        document = None
    if not isinstance(document, dict):
        raise Malformed("kept credentials are malformed", why="they are not a JSON object")
    return from_document(document, kind)
