"""The texts of pages and cards in each language, with the labels of the protocols' own fields."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

from zesty_burrow.protocols import registry
from zesty_burrow.protocols.parts import device_of


@cache
def page_texts() -> dict[str, dict[str, str]]:
    """Texts by language and key. A protocol without labels in a language has its English ones there."""
    texts: dict[str, dict[str, str]] = json.loads(
        files("zesty_burrow.fleet.links.pages").joinpath("texts.json").read_text("utf-8")
    )
    for name in registry.names():
        labels = device_of(name).labels
        for language, own in texts.items():
            for key, label in {**labels.get("en", {}), **labels.get(language, {})}.items():
                own[f"field-{key}"] = label
    return texts
