"""Credentials in a two-line text file: the name, then the password. Quirks are kept, paste slips pointed out."""

from __future__ import annotations

import re
import unicodedata

from zesty_burrow.core.eap.peer import NamePassword
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.secret import Secret
from zesty_burrow.errors import Malformed

MAX_LINE = 256
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
            why=f"two lines are wanted, the name and the password; there are {len(lines)}",
            slug="kit-credentials-incomplete",
        )
    if any(len(line) > MAX_LINE for line in lines):
        raise Malformed(f"{origin} does not hold credentials", why=f"a line is longer than {MAX_LINE} characters")
    name, password = lines
    found = [
        finding("credentials-paste-slip", origin, f"the {label} {slip}")
        for label, value in (("name", name), ("password", password))
        for slip in paste_slips(value)
    ]
    return NamePassword(name, Secret(password)), found


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
        slips.append("stands in quotation marks")
    return slips
