"""What differs between two profiles, field by field."""

from __future__ import annotations

import hashlib
import re
import tomllib
from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from zesty_burrow.core.profile import LIST_MARK, PEM_MARK, Profile
from zesty_burrow.records import dataclass

SHOWN = 60


class Relation(StrEnum):
    """How a profile compares with the stored one of the same name."""

    SAME = "the same"
    NEWER = "a newer edition"
    OLDER = "an older edition"
    CHANGED = "another edition"
    CLASH = "a clash"


def relation(before: Profile, after: Profile) -> Relation:
    """Editions are of one provider for one gateway; ``profile.edition`` tells the newer one where both have it."""
    if (before.provider, before.gateway_identity) != (after.provider, after.gateway_identity):
        return Relation.CLASH
    old, new = _order(before.edition), _order(after.edition)
    if not old or not new or old == new:
        return Relation.CHANGED
    return Relation.NEWER if new > old else Relation.OLDER


def _order(edition: str) -> tuple[int, ...]:
    """A date as RFC 3339 writes it, or a number with dots."""
    return tuple(int(part) for part in re.findall(r"[0-9]{1,12}", edition))


@dataclass(frozen=True, slots=True)
class Difference:
    """One key with its value before and after, as people read it; empty where there was none."""

    key: str
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.key}: {self.before or 'absent'} becomes {self.after or 'absent'}"


def differences(before: str, after: str) -> list[Difference]:
    """Between two profile texts, in the order of the keys. Certificates are shown by their fingerprint's start.

    Tags are left out: they are the administrator's own and stay.
    """
    one, two = _flatten(tomllib.loads(before)), _flatten(tomllib.loads(after))
    keys = [key for key in dict.fromkeys([*one, *two]) if key != "profile.tags"]
    return [Difference(key, one.get(key, ""), two.get(key, "")) for key in keys if one.get(key) != two.get(key)]


def _flatten(table: Mapping[str, Any], prefix: str = "") -> dict[str, str]:
    flat: dict[str, str] = {}
    for key, value in table.items():
        name = f"{prefix}{key}"
        if isinstance(value, Mapping):
            flat.update(_flatten(value, f"{name}."))
        elif isinstance(value, list):
            flat[name] = ", ".join(map(_show, value)) or "none"
        else:
            flat[name] = _show(value)
    return flat


def _show(value: Any) -> str:
    text = str(value)
    if PEM_MARK in text:
        return f"certificate {hashlib.sha256(text.encode()).hexdigest()[:12]}"
    if LIST_MARK in text:
        return f"revocation list {hashlib.sha256(text.encode()).hexdigest()[:12]}"
    return text if len(text) <= SHOWN else f"{text[:SHOWN]}…"
