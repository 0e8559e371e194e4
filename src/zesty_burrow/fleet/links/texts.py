"""The texts of pages and cards in each language, with those of protocols and checks."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.parts import device_of


@cache
def _own_texts() -> str:
    return files("zesty_burrow.fleet.links.pages").joinpath("texts.json").read_text("utf-8")


def page_texts() -> dict[str, dict[str, str]]:
    """Texts by language and key. A protocol or check without texts in a language has its English ones there."""
    texts: dict[str, dict[str, str]] = json.loads(_own_texts())
    for check in CHECKS:
        for language, own in texts.items():
            sentences = {**check.on_page.get("en", {}), **check.on_page.get(language, {})}
            own.update({f"finding-{code}": sentence for code, sentence in sentences.items()})
    for name in registry.names():
        labels = device_of(name).labels
        for language, own in texts.items():
            for key, label in {**labels.get("en", {}), **labels.get(language, {})}.items():
                own[f"field-{key}"] = label
    return texts
