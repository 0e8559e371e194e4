"""The observatory's key: it signs what it tells, so that nobody else can answer in its name."""

from __future__ import annotations

import os
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_pem_private_key,
)

from zesty_burrow.errors import InputError


def load_or_make(path: Path) -> Ed25519PrivateKey:
    """The key in a file (PEM); one is made where there is no file, for its owner alone. Raises :class:`InputError`."""
    try:
        octets = path.read_bytes()
    except FileNotFoundError:
        return _make(path)
    except OSError as problem:
        raise InputError(f"the key {path} cannot be read", why=problem.strerror or str(problem)) from None
    try:
        key = load_pem_private_key(octets, None)
    except (ValueError, TypeError):
        key = None
    if not isinstance(key, Ed25519PrivateKey):
        raise InputError(
            f"{path} is no key to sign with",
            why="an Ed25519 key without passphrase is needed, PEM",
            next_step="Name a file that does not exist yet: a key is made there.",
        )
    return key


def _make(path: Path) -> Ed25519PrivateKey:
    key = Ed25519PrivateKey.generate()
    octets = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    try:
        descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    except OSError as problem:
        raise InputError(f"the key {path} cannot be made", why=problem.strerror or str(problem)) from None
    with os.fdopen(descriptor, "wb") as file:
        file.write(octets)
    return key
