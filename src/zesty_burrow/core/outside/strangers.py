"""Reads what an observatory or a browser tells: a stranger's values."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.outside.observation import Sighting

LONGEST = 100


def sighting_of(document: Any) -> Sighting:
    """A sighting; nothing where there is no JSON object; what is not text is left out, what is long is cut."""
    values = {}
    for key in ("address", "operator", "country", "city"):
        value = document.get(key, "") if isinstance(document, dict) else ""
        text = value if isinstance(value, str) else ""
        values[key] = "".join(letter for letter in text if letter.isprintable())[:LONGEST]
    return Sighting(**values)


def resolvers_in(document: dict[str, Any]) -> tuple[Sighting, ...]:
    """Who asked for the names of a run, by what an observatory tells of it; each once, by address."""
    resolvers: dict[str, Sighting] = {}
    questions = document.get("questions", [])
    for row in questions if isinstance(questions, list) else []:
        if isinstance(row, dict) and isinstance(row.get("resolver"), str):
            resolvers.setdefault(row["resolver"], sighting_of({**row, "address": row["resolver"]}))
    return tuple(resolvers[address] for address in sorted(resolvers))
