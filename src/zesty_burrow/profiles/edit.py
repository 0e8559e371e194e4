"""Changes single keys of a profile, by their names in its text form (docs/profile.md)."""

from __future__ import annotations

import copy
import json
import tomllib
from collections.abc import Iterator, Mapping
from functools import cache
from importlib import resources
from typing import Any

from zesty_burrow.core.profile import Profile
from zesty_burrow.errors import ProfileInvalid, UsageError
from zesty_burrow.profiles.text import read_document, write_profile
from zesty_burrow.protocols import registry

SEPARATOR = ","
NAME_KEY = "profile.name"


@cache
def keys() -> dict[str, str]:
    """Every key that a profile may have, with the type that its schema gives it, empty where it has several."""
    found: dict[str, str] = {}
    shared = json.loads(resources.files("zesty_burrow.profiles").joinpath("profile.schema.json").read_text("utf-8"))
    tables = {name: table for name, table in shared["properties"].items() if "properties" in table}
    for name in registry.names():
        own = resources.files(registry.package(name)).joinpath("settings.schema.json")
        if own.is_file():
            tables[name] = json.loads(own.read_text("utf-8"))["table"]
    for table, content in tables.items():
        for key, value in content["properties"].items():
            found[f"{table}.{key}"] = str(value.get("type", "" if "anyOf" in value else value.get("$ref", "string")))
    del found[NAME_KEY]
    return found


def with_changes(profile: Profile, changes: Mapping[str, str | None]) -> Profile:
    """A profile with keys changed; None takes a key away, so that its default counts.

    Values are as people write them: a list has commas. :class:`UsageError` for a key that there is not,
    :class:`ProfileInvalid` for what a profile must not say.
    """
    document = tomllib.loads(write_profile(profile))
    for key, value in changes.items():
        table, _, name = key.partition(".")
        kind = keys().get(key)
        if kind is None:
            why = "zesty rename changes it" if key == NAME_KEY else f"there are {', '.join(_near(key))}"
            raise UsageError(f"a profile has no key {key!r} to change", why=why)
        target = document.setdefault(table, {})
        if value is None:
            target.pop(name, None)
        else:
            target[name] = _value(value, kind)
        if not target:
            del document[table]
    origin = f"profile {profile.name}"
    made = read_document(copy.deepcopy(document), origin)
    if made.unknown and not profile.unknown:
        raise ProfileInvalid(origin, why=f"not understood: {made.unknown}")
    return made


def _near(key: str) -> Iterator[str]:
    """Keys of the same table, or of the same name; else all."""
    table, _, name = key.partition(".")
    same = [one for one in keys() if one.partition(".")[0] == table or one.rpartition(".")[2] == (name or table)]
    yield from same or keys()


def _value(text: str, kind: str) -> Any:
    """What people write for a value of this type."""
    if kind == "array" and not text.lstrip().startswith("["):
        return [part.strip() for part in text.split(SEPARATOR) if part.strip()]
    if kind.endswith("identity") and not text.lstrip().startswith("{"):
        return _identity(text)
    if kind in ("string",) or kind.endswith("line"):
        return text
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text


def _identity(text: str) -> dict[str, str]:
    """By its form: an address, a mail address, else a name."""
    from zesty_burrow.core.identity import Identity

    made = Identity.of(text)
    return {"type": made.type.name, "value": text}
