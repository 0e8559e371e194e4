"""What a device reports of itself: its verdict, signed with its own key; the number tells reports apart.

Who collects reports takes them from the keys in the list alone. A report that comes again, or later than a newer one,
changes nothing.
"""

from __future__ import annotations

import base64
import binascii
import json
import re
from collections.abc import Callable
from typing import Any

from zesty_burrow.core.finding import Severity
from zesty_burrow.core.outside.judgement import Judgement
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.errors import InputError, Malformed
from zesty_burrow.fleet.keys import DEVICE, OwnKeys, read_key
from zesty_burrow.store.devices import Report

FORMAT = 1
LONGEST = 16 << 10
LABEL = b"zesty-burrow report 1"
VERDICTS = ("sealed", "leaking", "unclear")
MAX_ITEMS, MAX_TEXT = 32, 200
TAKEN_AT = re.compile(r"[0-9]{4}-[01][0-9]-[0-3][0-9]T[0-2][0-9]:[0-5][0-9]:[0-6][0-9]Z")
"""RFC 3339, in UTC."""


def report_of(device: str, number: int, profile: str, digest: str, judgement: Judgement, seen: Observation) -> Report:
    """What a verification has come to, in short: findings that are no mere notes, and the exits."""
    codes = [finding.code.slug for finding in judgement.findings if finding.severity is not Severity.NOTE]
    exits = tuple(words for one in (seen.ipv4, seen.ipv6) if (words := _words(one)))
    told = (seen.taken_at, str(judgement.verdict), profile, digest, exits)
    return Report(device, number, *told, tuple(dict.fromkeys(codes))[:MAX_ITEMS])


def _words(seen: Sighting) -> str:
    where = ", ".join(part for part in (seen.operator, seen.city, seen.country) if part)
    return f"{seen.address} ({where})"[:MAX_TEXT] if seen.address else ""


def sign_report(report: Report, own: OwnKeys) -> bytes:
    content = json.dumps(
        {
            "number": report.number,
            "taken_at": report.taken_at,
            "verdict": report.verdict,
            "profile": report.profile,
            "digest": report.digest,
            "exits": list(report.exits),
            "codes": list(report.codes),
        }
    ).encode()
    document = {
        "zesty-burrow": "report",
        "format": FORMAT,
        "device": own.public(DEVICE).text,
        "content": base64.b64encode(content).decode(),
        "signature": base64.b64encode(own.sign(LABEL + content)).decode(),
    }
    return json.dumps(document).encode()


def read_report(data: bytes, name_of: Callable[[str], str | None]) -> Report:
    """``name_of``: a device's, by the text of its public key. Raises :class:`Malformed`, :class:`InputError`."""
    try:
        document = json.loads(data[: LONGEST + 1]) if len(data) <= LONGEST else None
        if not isinstance(document, dict) or document.get("zesty-burrow") != "report":
            raise Malformed("this is no report", why="what `zesty report` sends is needed")
        content = base64.b64decode(str(document.get("content")), validate=True)
        signature = base64.b64decode(str(document.get("signature")), validate=True)
    except (ValueError, RecursionError, binascii.Error):
        raise Malformed("this is no report", why="it is not JSON with base64 in it") from None
    key = read_key(str(document.get("device")), DEVICE)
    name = name_of(key.text)
    if name is None:
        raise InputError("no device here has the key of this report", why=key.code, slug="report-unknown")
    key.verify(signature, LABEL + content)
    return _content(name, content)


def _content(name: str, content: bytes) -> Report:
    try:
        found: Any = json.loads(content)
        number, lists = found["number"], (found["exits"], found["codes"])
        texts = [found[key] for key in ("taken_at", "verdict", "profile", "digest")]
        rows = [tuple(one) for one in lists]
    except (ValueError, KeyError, TypeError, RecursionError):
        raise Malformed("this report is not whole") from None
    every = [*texts, *(one for row in rows for one in row)]
    if not isinstance(number, int) or isinstance(number, bool) or not 0 < number < 1 << 53:
        raise Malformed("this report is not whole", why="its number is missing or not a whole number")
    if any(not isinstance(one, str) or len(one) > MAX_TEXT for one in every) or max(map(len, rows)) > MAX_ITEMS:
        raise Malformed("this report is not whole", why="a part of it is too long, or no text")
    if not TAKEN_AT.fullmatch(texts[0]):
        raise Malformed("this report is not whole", why="its time is missing or not RFC 3339")
    if texts[1] not in VERDICTS:
        raise Malformed("this report is not whole", why="its verdict is missing or unknown")
    return Report(name, number, *texts, *rows)
