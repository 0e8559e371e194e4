"""Credentials that travel with exported profiles: sealed under a passphrase (scrypt, AES-256-GCM), as JSON."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from zesty_burrow.core.eap.peer import NamePassword
from zesty_burrow.core.protection import Random
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed, SealError

FORMAT = 1
FILE_NAME = "credentials.sealed.json"
MARK = '"sealed_credentials"'
COST, BLOCK, PARALLEL = 1 << 15, 8, 1
SUBJECT = b"zesty-burrow exported credentials"


def _key(passphrase: str, salt: bytes) -> bytes:
    return Scrypt(salt=salt, length=32, n=COST, r=BLOCK, p=PARALLEL).derive(passphrase.encode())


def seal_credentials(values: Mapping[str, NamePassword], passphrase: str, random: Random) -> bytes:
    """All credentials by label, as one JSON document."""
    plain = {label: {"name": one.name, "password": one.password.text()} for label, one in values.items()}
    salt, nonce = random(16), random(12)
    sealed = AESGCM(_key(passphrase, salt)).encrypt(nonce, json.dumps(plain).encode(), SUBJECT)
    fields = {"salt": salt, "nonce": nonce, "data": sealed}
    document: dict[str, Any] = {key: base64.b64encode(value).decode() for key, value in fields.items()}
    return json.dumps({"sealed_credentials": FORMAT, **document}, indent=2).encode() + b"\n"


def open_credentials_untrusted(text: str, passphrase: str, origin: str) -> dict[str, NamePassword]:
    """The credentials by label. :class:`Malformed`, or :class:`SealError` where the passphrase is another."""
    try:
        document = json.loads(text)
        if document["sealed_credentials"] != FORMAT:
            raise ValueError("its format is not known")
        salt, nonce, data = (base64.b64decode(document[key], validate=True) for key in ("salt", "nonce", "data"))
        if len(salt) != 16 or len(nonce) != 12:
            raise ValueError("salt or nonce have another length")
    except (ValueError, KeyError, TypeError, RecursionError) as problem:
        raise Malformed(f"{origin} is malformed", why=str(problem)[:200]) from None
    try:
        plain = json.loads(AESGCM(_key(passphrase, salt)).decrypt(nonce, data, SUBJECT))
        return {label: NamePassword(one["name"], Secret(one["password"])) for label, one in plain.items()}
    except (InvalidTag, ValueError, KeyError, TypeError, AttributeError):
        raise SealError(
            f"the credentials in {origin} cannot be opened",
            why="the passphrase is not the one that sealed them, or they were changed",
            next_step="Give the passphrase that was chosen at the export: --passphrase-file, or when asked.",
        ) from None
