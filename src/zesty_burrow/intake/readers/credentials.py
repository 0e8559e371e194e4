"""Credentials in a two-line text file: the name, then the password. Quirks are kept, paste slips pointed out."""

from __future__ import annotations

import re
import unicodedata

from zesty_burrow.core.credentials import AdditionalKey, NamePassword, PreSharedKey
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed
from zesty_burrow.intake.readers.vocabulary import Field, shipped

MAX_LINE = 256
MIN_KEY = 16
"""Octets below which a shared key can be guessed (RFC 7296 §2.15: as strong as the strongest negotiated key)."""
SUGGESTIVE = re.compile(r"(credential|account|login|sign.?in|pass|auth|secret|user)", re.IGNORECASE)


def looks_like_credentials(name: str, text: str) -> bool:
    """Whether a text is meant as credentials: two short lines, or a suggestive file name and hardly any text."""
    lines = [line for line in text.splitlines() if line.strip()]
    short = bool(lines) and all(len(line) <= MAX_LINE for line in lines)
    if SUGGESTIVE.search(name) and short and len(lines) <= 2:
        return True
    return short and len(lines) == 2 and not any(" " in line.strip() for line in lines) and not lines[0].endswith(":")


def read_credentials_untrusted(text: str, origin: str) -> tuple[NamePassword, list[Finding]]:
    """Name and password as they stand, with findings about paste slips. Raises only ``Malformed``."""
    lines = text.lstrip("\ufeff").splitlines()
    while lines and not lines[-1].strip():
        lines.pop()
    if len(lines) != 2 or not lines[0].strip() or not lines[1].strip():
        raise Malformed(
            f"{origin} does not hold credentials",
            why=f"two lines are needed, the name and the password; there are {len(lines)}",
            slug="kit-credentials-incomplete",
        )
    if any(len(line) > MAX_LINE for line in lines):
        raise Malformed(f"{origin} does not hold credentials", why=f"a line is longer than {MAX_LINE} characters")
    (name, password), told = _without_labels(lines, origin)
    found = told + [
        finding("credentials-paste-slip", origin, f"the {label} {slip}")
        for label, value in (("name", name), ("password", password))
        for slip in paste_slips(value)
    ]
    return NamePassword(name, Secret(password)), found


_LABELLED = re.compile(r"\s*([^:=]{2,40}?)\s*[:=]\s*(\S.*)")


def _without_labels(lines: list[str], origin: str) -> tuple[list[str], list[Finding]]:
    """What stands behind "Username:" and "Password:", where the first line begins with such a word."""
    words = shipped()
    values: list[str] = []
    findings: list[Finding] = []
    for line, fields in zip(lines, ((Field.ACCOUNT, Field.EMAIL), (Field.PASSWORD,)), strict=True):
        match = _LABELLED.fullmatch(line)
        meant = words.match(match[1], tolerant=False) if match else None
        if match and meant and meant.field in fields and (values != lines[:1] or fields[0] is Field.ACCOUNT):
            values.append(match[2])
            findings.append(finding("credentials-paste-slip", origin, f"the label {match[1]!r} was left out"))
        else:
            # A password may begin with any word; it is a label only where the name had one.
            values.append(line)
    return values, findings


def paste_slips(value: str) -> list[str]:
    """What looks like a slip in a pasted value, in words that do not show the value."""
    slips = []
    if value != value.strip():
        slips.append("has a space at an end")
    odd = sorted({unicodedata.name(letter, "unnamed character").lower() for letter in value if ord(letter) > 126})
    if odd:
        slips.append(f"holds {', '.join(odd[:3])}")
    if any(ord(letter) < 32 for letter in value):
        slips.append("holds a control character")
    if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'`":
        slips.append("is in quotation marks")
    return slips


def _key_octets(text: str, origin: str) -> bytes:
    """A shared key as people write it: text, or hex behind ``0x`` (RFC 7296 §2.15: both must be possible)."""
    if text[:2].casefold() == "0x":
        try:
            return bytes.fromhex(text[2:])
        except ValueError:
            raise Malformed(f"{origin} does not hold a key", why="what follows 0x is not hexadecimal") from None
    return text.encode()


def _key_findings(octets: bytes, text: str, origin: str) -> list[Finding]:
    findings = [finding("credentials-paste-slip", origin, f"the key {slip}") for slip in paste_slips(text)]
    if len(octets) < MIN_KEY:
        findings.append(finding("shared-key-short", origin, f"the key has {len(octets)} octets"))
    return findings


def read_shared_key_untrusted(text: str, origin: str) -> tuple[PreSharedKey, list[Finding]]:
    """A pre-shared key on the only line of a text. Raises only ``Malformed``."""
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip()]
    if len(lines) != 1 or len(lines[0]) > MAX_LINE:
        raise Malformed(f"{origin} does not hold a key", why="one line with the key is needed")
    octets = _key_octets(lines[0], origin)
    return PreSharedKey(Secret(octets)), _key_findings(octets, lines[0], origin)


def read_additional_key_untrusted(text: str, origin: str) -> tuple[AdditionalKey, list[Finding]]:
    """An additional shared key (RFC 8784): its identifier, then the key. Raises only ``Malformed``."""
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip()]
    if len(lines) != 2 or any(len(line) > MAX_LINE for line in lines):
        raise Malformed(f"{origin} does not hold an additional key", why="two lines are needed: identifier and key")
    octets = _key_octets(lines[1], origin)
    return AdditionalKey(lines[0].strip(), Secret(octets)), _key_findings(octets, lines[1], origin)
