"""Private keys as they travel: PKCS #8, the older PEM forms, DER; alone, or with certificates in PKCS #12."""

from __future__ import annotations

import base64
import contextlib
import re
from collections.abc import Callable, Iterator
from typing import TypeVar

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
    load_der_private_key,
    load_pem_private_key,
    pkcs12,
)

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import LimitExceeded, Malformed, SealError
from zesty_burrow.records import dataclass, field

PRIVATE_MARK = re.compile(rb"-----BEGIN ((?:(?:RSA|EC|ENCRYPTED) )?PRIVATE KEY)-----")
MAX_BLOCK = 1 << 16
TRIES = 10
MAX_KEYS = 50
MAX_PASSPHRASE = 1024
MAX_ROUNDS = 3_000_000
MAX_SCRYPT_OCTETS, MAX_SCRYPT_WORK = 64 << 20, 256 << 20
"""Of memory; and of memory that is gone through, for all its parallel parts."""
MAX_ELEMENTS = 2000
KeyTypes = rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | ed25519.Ed25519PrivateKey | ed448.Ed448PrivateKey
Ask = Callable[[str], str]
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class FoundKey:
    """A private key without its passphrase (PKCS #8, PEM), and the public half to match certificates by (DER)."""

    secret: Secret
    public: bytes
    kind: str
    plain: bool
    findings: tuple[Finding, ...] = ()


@dataclass(slots=True)
class OpenedKeys:
    """What a file of keys and certificates holds."""

    keys: list[FoundKey] = field(default_factory=list)
    certificates: list[x509.Certificate] = field(default_factory=list)


def public_octets(key: object) -> bytes:
    """SubjectPublicKeyInfo, DER: equal for a key and the certificate that it fits."""
    return key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)  # type: ignore[attr-defined, no-any-return]


def looks_like_pkcs12(data: bytes) -> bool:
    """A PFX (RFC 7292 §4): a sequence that begins with version 3 and a content of type data or signedData."""
    return data[:1] == b"\x30" and b"\x02\x01\x03\x30" in data[:10] and b"\x2a\x86\x48\x86\xf7\x0d\x01\x07" in data[:40]


def looks_like_key(data: bytes) -> bool:
    """Whether octets are a private key in PEM, or in DER by its first fields (RFC 5958 §2, RFC 8017 A.1.2)."""
    if PRIVATE_MARK.search(data):
        return True
    head = data[:16]
    if head[:1] != b"\x30":
        return False
    return any(mark in head for mark in (b"\x02\x01\x00\x30", b"\x02\x01\x00\x02\x82", b"\x02\x01\x01\x04"))


def refuse_costly_keys(data: bytes, origin: str) -> None:
    """A stranger may ask for thousands of millions of rounds; :class:`LimitExceeded` beyond three millions.

    In every way to make a key from a passphrase the cost stands right after the salt, which is an octet string: the
    rounds (RFC 8018 A.2, RFC 7292 B and C), or N, r and p of scrypt (RFC 7914 §7), which takes 128 * N * r octets.
    """
    pending = _der_of(data)
    for _ in range(MAX_ELEMENTS):
        if not pending:
            return
        salted = False
        numbers: list[int] = []
        for tag, value in _elements(pending.pop()):
            if tag == 0x02 and salted:
                numbers.append(int.from_bytes(value[:16]))
                _refuse_costly(numbers, origin)
            else:
                salted, numbers = tag == 0x04, []
            if tag & 0x20 or (tag == 0x04 and value[:1] == b"\x30"):
                pending.append(value)


def _refuse_costly(numbers: list[int], origin: str) -> None:
    why = ""
    if len(numbers) >= 3:
        n, r, p = numbers[:3]
        if 128 * n * r > MAX_SCRYPT_OCTETS or 128 * n * r * p > MAX_SCRYPT_WORK:
            why = f"its passphrase would need {128 * n * r >> 20} MiB of memory to check, {p} times over"
    elif numbers[0] > MAX_ROUNDS:
        why = f"its passphrase would need more than {MAX_ROUNDS} rounds to check"
    if why:
        raise LimitExceeded(f"{origin} is not opened", why=why[:200])


def _blocks(data: bytes) -> list[bytes]:
    """The PEM blocks of private keys, one more than ``MAX_KEYS`` at the most; what has no end is not among them."""
    found: list[bytes] = []
    at = tries = 0
    while len(found) <= MAX_KEYS and tries <= 2 * MAX_KEYS and (match := PRIVATE_MARK.search(data, at)):
        tries += 1
        end = b"-----END " + match.group(1) + b"-----"
        closing = data.find(end, match.end(), match.end() + MAX_BLOCK)
        at = match.end() if closing < 0 else closing + len(end)
        if closing >= 0:
            found.append(data[match.start() : at])
    return found


def _der_of(data: bytes) -> list[bytes]:
    """What every private key's PEM block holds, whatever stands before its base64; or the octets themselves."""
    found = []
    for block in _blocks(data):
        lines = [line for line in block.splitlines()[1:-1] if b":" not in line]
        with contextlib.suppress(ValueError):
            found.append(base64.b64decode(b"".join(lines)))
    return found or [data]


def _elements(data: bytes) -> Iterator[tuple[int, bytes]]:
    """Tag and value of each DER element, as far as they can be read."""
    at = 0
    while at + 2 <= len(data):
        tag, size = data[at], data[at + 1]
        at += 2
        if size & 0x80:
            count = size & 0x7F
            size = int.from_bytes(data[at : at + count])
            at += count
        yield tag, data[at : at + size]
        at += size


def read_keys_untrusted(data: bytes, ask: Ask, origin: str) -> OpenedKeys:
    """Keys and certificates in a stranger's file.

    Raises :class:`Malformed`; :class:`SealError` where the passphrase is wrong or nobody can be asked.
    """
    refuse_costly_keys(data, origin)
    if looks_like_pkcs12(data):
        return _read_pkcs12(data, ask, origin)
    opened = OpenedKeys()
    blocks = _blocks(data)
    if len(blocks) > MAX_KEYS:
        raise Malformed(f"{origin} holds too many keys", why=f"more than {MAX_KEYS}")
    if not blocks and PRIVATE_MARK.search(data):
        raise Malformed(f"{origin} is malformed", why="a private key in it is cut off")
    for block in blocks or [data]:
        opened.keys.append(_read_key(block, ask, origin))
    if b"-----BEGIN CERTIFICATE-----" in data:
        opened.certificates = trust.load_pem_certificates_untrusted(data)
    return opened


def _read_key(data: bytes, ask: Ask, origin: str) -> FoundKey:
    pem = data.startswith(b"-----")

    def load(passphrase: bytes | None) -> object:
        return (load_pem_private_key if pem else load_der_private_key)(data, passphrase)

    try:
        key, plain = load(None), True
    except TypeError:
        # The library's way to say that a passphrase is needed.
        key, plain = _unlock(load, ask, origin), False
    except (ValueError, UnsupportedAlgorithm, OverflowError):
        raise Malformed(f"{origin} is malformed", why="it is not a private key that can be read") from None
    return _found(key, origin, plain=plain)


def _unlock(load: Callable[[bytes], T], ask: Ask, origin: str) -> T:
    """Ask until it opens, at most three times; the same wrong answer twice ends it."""
    given: set[str] = set()
    for _ in range(TRIES):
        try:
            passphrase = ask(f"Passphrase of {origin}: ")
        except SealError:
            if not given:
                raise
            break
        if passphrase in given or len(passphrase) > MAX_PASSPHRASE:
            break
        given.add(passphrase)
        try:
            return load(passphrase.encode())
        except (ValueError, TypeError):
            continue
        except UnsupportedAlgorithm:
            raise Malformed(f"{origin} cannot be opened", why="its cipher is not one that is used today") from None
    raise SealError(
        f"{origin} cannot be opened",
        why="the passphrase is not the one that protects it, or the file is damaged",
        next_step="Ask the sender of the file for its passphrase: --kit-passphrase-file FILE, or when asked.",
        slug="kit-passphrase",
    )


def _found(key: object, origin: str, *, plain: bool) -> FoundKey:
    if not isinstance(key, KeyTypes):
        raise Malformed(f"{origin} cannot be used", why="its kind of key is not used for IKE (RFC 8247 §3)")
    findings: list[Finding] = []
    if isinstance(key, rsa.RSAPrivateKey):
        kind = f"RSA, {key.key_size} bits"
        if key.key_size < 2048:
            findings.append(finding("key-weak", origin, f"an RSA key of {key.key_size} bits"))
    elif isinstance(key, ec.EllipticCurvePrivateKey):
        kind = f"ECDSA, {key.curve.name}"
        if key.curve.key_size < 256:
            findings.append(finding("key-weak", origin, f"a curve of {key.curve.key_size} bits"))
    else:
        kind = "Ed25519" if isinstance(key, ed25519.Ed25519PrivateKey) else "Ed448"
    if plain:
        findings.append(finding("key-unprotected", origin))
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return FoundKey(Secret(pem), public_octets(key.public_key()), kind, plain, tuple(findings))


def _read_pkcs12(data: bytes, ask: Ask, origin: str) -> OpenedKeys:
    def load(passphrase: bytes | None) -> pkcs12.PKCS12KeyAndCertificates:
        return pkcs12.load_pkcs12(data, passphrase)

    plain = True
    try:
        try:
            opened = load(None)
        except (ValueError, TypeError):
            plain = False
            opened = _unlock(load, ask, origin)
    except UnsupportedAlgorithm:
        raise Malformed(f"{origin} cannot be opened", why="its cipher is not one that is used today") from None
    own = [opened.cert.certificate] if opened.cert else []
    certificates = [*own, *(entry.certificate for entry in opened.additional_certs)]
    found = OpenedKeys(
        certificates=[
            trust.load_certificate_untrusted(certificate.public_bytes(Encoding.DER)) for certificate in certificates
        ]
    )
    if opened.key is not None:
        found.keys.append(_found(opened.key, origin, plain=plain))
    return found


def nobody(_: str) -> str:
    """Where no passphrase can be asked for."""
    raise SealError(
        "a passphrase is needed",
        why="there is no terminal to ask on",
        next_step="Name a file that holds it: --kit-passphrase-file FILE",
        slug="kit-locked",
    )
