"""Takes keys out of a TOML table that a stranger has written, with errors that name the key."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar
from unicodedata import category

from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.errors import ProfileInvalid

MAX_LIST = 256
V = TypeVar("V")


class Table:
    """Takes keys out of a TOML table, checks their types, and knows what nobody took."""

    def __init__(self, label: str, values: dict[str, Any], origin: str) -> None:
        self.label, self.values, self.origin = label, dict(values), origin

    def invalid(self, key: str, why: str) -> ProfileInvalid:
        """An error that names the key."""
        return ProfileInvalid(f"{self.origin}: {self.label}.{key}" if self.label else f"{self.origin}: {key}", why=why)

    def take(self, key: str, kind: type[V], default: V) -> V:
        """A value of a TOML type, or the default."""
        value = self.values.pop(key, default)
        if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
            raise self.invalid(key, f"a {_TYPE_NAMES[kind]} is needed, not {value!r:.60}")
        return value

    def text(self, key: str, default: str = "", allowed: Sequence[str] = ()) -> str:
        """A line of text, perhaps one of several words."""
        value = self.take(key, str, default)
        if allowed and value not in allowed:
            raise self.invalid(key, f"{value!r} is not one of {', '.join(allowed)}")
        if not value.isprintable() and any(category(letter) == "Cc" for letter in value):
            raise self.invalid(key, "control characters and line ends are not allowed")
        return value

    def items(self, key: str, convert: Callable[[str], V], default: tuple[V, ...] = ()) -> tuple[V, ...]:
        """A list of text, each entry converted; a ``ValueError`` of the conversion becomes ours."""
        if key not in self.values:
            return default
        entries = self.take(key, list, [])
        if len(entries) > MAX_LIST:
            raise self.invalid(key, f"more than {MAX_LIST} entries")
        result = []
        for entry in entries:
            if not isinstance(entry, str):
                raise self.invalid(key, f"a list of text is needed, not {entry!r:.60}")
            try:
                result.append(convert(entry))
            except ValueError as problem:
                raise self.invalid(key, str(problem)) from None
        return tuple(result)

    def identity(self, key: str) -> Identity | None:
        """A table of type and value (RFC 7296 §3.5), or None if it is missing."""
        if key not in self.values:
            return None
        inner = Table(f"{self.label}.{key}", self.take(key, dict, {}), self.origin)
        allowed = [kind.name for kind in IdType if kind is not IdType.ID_DER_ASN1_GN]
        identity = Identity(IdType[inner.text("type", allowed=allowed)], inner.text("value"))
        try:
            identity.octets()
        except ValueError as problem:
            raise inner.invalid("value", str(problem)) from None
        if not identity.value:
            raise inner.invalid("value", "the identity is missing")
        return identity

    def number(self, key: str, default: int, low: int, high: int) -> int:
        """A whole number within bounds."""
        value = self.take(key, int, default)
        if not low <= value <= high:
            raise self.invalid(key, f"{value} is not between {low} and {high}")
        return value

    def number_or(self, key: str, word: str, meaning: V, bounds: tuple[int, int, int]) -> int | V:
        """A whole number within bounds, its default first; or a word that stands for something else."""
        value = self.values.get(key)
        if isinstance(value, str):
            self.text(key, allowed=(word,))
            return meaning
        return self.number(key, *bounds)


_TYPE_NAMES: dict[type, str] = {str: "text", int: "whole number", list: "list", dict: "table", bool: "true or false"}
