"""Credentials that travel with exported profiles: sealed under a passphrase (scrypt, AES-256-GCM).

They stand in a JSON file of their own inside an archive, or in the table ``sealed_credentials`` of a profile file.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from zesty_burrow.core.credentials import Credentials, from_document, to_document
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.scope import Scope
from zesty_burrow.errors import Malformed, SealError

FORMAT = 2
FILE_NAME = "credentials.sealed.json"
TABLE = "sealed_credentials"
MARK = f'"{TABLE}"'
COST, BLOCK, PARALLEL = 1 << 15, 8, 1
SUBJECT = b"zesty-burrow exported credentials"
Entries = list[tuple[Scope, Credentials]]


def _key(passphrase: str, salt: bytes) -> bytes:
    return Scrypt(salt=salt, length=32, n=COST, r=BLOCK, p=PARALLEL).derive(passphrase.encode())


def seal_credentials(values: Entries, passphrase: str, random: Random) -> dict[str, Any]:
    """All credentials with whom they are for, as plain values that hold nothing readable."""
    plain = [
        {"label": scope.label, "device": scope.device, "profile": scope.profile, **to_document(value)}
        for scope, value in values
    ]
    salt, nonce = random(16), random(12)
    sealed = AESGCM(_key(passphrase, salt)).encrypt(nonce, json.dumps(plain).encode(), SUBJECT)
    fields = {"salt": salt, "nonce": nonce, "data": sealed}
    return {"format": FORMAT, **{key: base64.b64encode(value).decode() for key, value in fields.items()}}


def sealed_file(table: Mapping[str, Any]) -> bytes:
    """The JSON file of an archive."""
    return json.dumps({TABLE: table}, indent=2).encode() + b"\n"


def read_sealed_file_untrusted(text: str, origin: str) -> Any:
    """The table in a JSON file; raises only :class:`Malformed`."""
    try:
        return json.loads(text)[TABLE]
    except (ValueError, KeyError, TypeError, RecursionError) as problem:
        raise Malformed(f"{origin} is malformed", why=str(problem)[:200]) from None


def open_credentials_untrusted(table: Any, passphrase: str, origin: str) -> Entries:
    """What is sealed. :class:`Malformed`, or :class:`SealError` where the passphrase is another."""
    try:
        if table["format"] != FORMAT:
            raise ValueError("its format is not known")
        salt, nonce, data = (base64.b64decode(table[key], validate=True) for key in ("salt", "nonce", "data"))
        if len(salt) != 16 or len(nonce) != 12:
            raise ValueError("salt or nonce have another length")
    except (ValueError, KeyError, TypeError, AttributeError) as problem:
        raise Malformed(f"{origin} is malformed", why=str(problem)[:200]) from None
    try:
        plain = json.loads(AESGCM(_key(passphrase, salt)).decrypt(nonce, data, SUBJECT))
        return [(Scope(one["label"], one["device"], one["profile"]), from_document(one)) for one in plain]
    except (InvalidTag, ValueError, KeyError, TypeError, Malformed):
        raise SealError(
            f"the credentials in {origin} cannot be opened",
            why="the passphrase is not the one that sealed them, or they were changed",
            next_step="Give the passphrase that was chosen at the export: --kit-passphrase-file, or when asked.",
            slug="kit-passphrase",
        ) from None
