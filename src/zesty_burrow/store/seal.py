"""Secrets at rest: AES-256-GCM under a key from a key file, a passphrase (scrypt, RFC 7914), or the system keyring."""

from __future__ import annotations

import os
import secrets
import stat
from collections.abc import Callable
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from zesty_burrow.errors import DiskFull, SealError
from zesty_burrow.extras import extra

VERSION = b"\x01"
SCRYPT_N, SCRYPT_R, SCRYPT_P = 1 << 15, 8, 1
SERVICE = "zesty-burrow"
METHODS = ("key-file", "passphrase", "keyring")


class Seal:
    """Seals and opens octets; ``subject`` binds a sealed value to what it is for."""

    def __init__(self, key: bytes) -> None:
        self._aead = AESGCM(key)

    def seal(self, value: bytes, subject: str) -> bytes:
        """Version, nonce, ciphertext and tag."""
        nonce = os.urandom(12)
        return VERSION + nonce + self._aead.encrypt(nonce, value, subject.encode())

    def open(self, sealed: bytes, subject: str) -> bytes:
        """The octets; :class:`SealError` where key or subject is another."""
        if sealed[:1] != VERSION or len(sealed) < 29:
            raise SealError(f"the secrets for {subject} cannot be opened", why="their form is not known")
        try:
            return self._aead.decrypt(sealed[1:13], sealed[13:], subject.encode())
        except InvalidTag:
            raise SealError(
                f"the secrets for {subject} cannot be opened", why="they were sealed under another key, or changed"
            ) from None


def write_private(path: Path, data: bytes) -> None:
    """Create a file that only its owner reads, with its final mode from the first moment; never over another."""
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
    except OSError as problem:
        path.unlink(missing_ok=True)  # nothing half-written stays
        raise DiskFull.by(problem, path) or problem from None


def key_from_file(path: Path) -> bytes:
    """The key in a key file, made at first use. A file that others can read is refused."""
    if not path.exists():
        write_private(path, secrets.token_bytes(32))
    mode = path.stat().st_mode
    if stat.S_IMODE(mode) & 0o077:
        raise SealError(
            f"other users can read the key file {path}",
            why=f"its mode is {stat.S_IMODE(mode):04o}",
            next_step=f"Run `chmod 600 {path}`, and change the passwords that it sealed.",
        )
    try:
        key = path.read_bytes()
    except PermissionError:
        raise SealError(
            f"the secrets under {path} cannot be opened",
            why="only root reads the key of the machine's store",
            next_step="Run the command as root, or keep credentials of your own: zesty credentials change",
        ) from None
    if len(key) != 32:
        raise SealError(f"the key file {path} is damaged", why=f"{len(key)} octets instead of 32")
    return key


def salt_from_file(path: Path) -> bytes:
    """The salt beside a store on disk, made at first use."""
    if not path.exists():
        write_private(path, secrets.token_bytes(16))
    return path.read_bytes()


def key_from_passphrase(salt: bytes, ask: Callable[[], str]) -> bytes:
    """A key from a passphrase through scrypt."""
    return Scrypt(salt=salt, length=32, n=SCRYPT_N, r=SCRYPT_R, p=SCRYPT_P).derive(ask().encode())


def key_from_keyring() -> bytes:
    """A key kept in the system keyring, made at first use. Needs the package's extra ``keyring``."""
    with extra("keyring"):
        import keyring
        import keyring.errors
    try:
        kept = keyring.get_password(SERVICE, "seal")
        if kept is None:
            kept = secrets.token_hex(32)
            keyring.set_password(SERVICE, "seal", kept)
        return bytes.fromhex(kept)
    except (keyring.errors.KeyringError, ValueError) as problem:
        raise SealError("the system keyring cannot be used", why=str(problem) or type(problem).__name__) from None


def replace_setting(path: Path, key: str, value: str) -> None:
    """Set one text key of the settings file, keeping its other lines; the file is replaced at once."""
    lines = path.read_text("utf-8").splitlines() if path.exists() else []
    kept = [line for line in lines if line.partition("=")[0].strip() != key]
    fresh = path.with_name(f".{path.name}.new")
    fresh.unlink(missing_ok=True)
    write_private(fresh, ("\n".join([f'{key} = "{value}"', *kept]) + "\n").encode())
    fresh.replace(path)
