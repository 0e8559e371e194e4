"""TOML texts that are alike in most of their tables, as the profiles of one kit are: each table is parsed once.

A TOML document may be cut before any line that begins a table, and the pieces parsed by themselves, so long as no two
of them give the same top-level key. A cut within a multi-line text or list cannot go unnoticed: the piece before it
ends in the middle of a value, and no parser takes it. Whatever cannot be cut so is parsed as a whole, which also gives
errors their true line.
"""

from __future__ import annotations

import re
import tomllib
from functools import lru_cache
from typing import Any

MAX_KEPT = 1 << 16
"""Characters of the longest piece that is remembered."""

_CUT = re.compile(r"(?<=\n)(?=\[[^\].\[]+\])")
"""Before a table of its own; one inside another stays with it, as both give the same top-level key."""


def parse(text: str) -> dict[str, Any]:
    """What ``tomllib.loads`` gives, and its errors. Never change what comes back: its tables are shared."""
    document: dict[str, Any] = {}
    try:
        for piece in _CUT.split(text):
            values = _piece(piece) if len(piece) <= MAX_KEPT else tomllib.loads(piece)
            if not document.keys().isdisjoint(values):
                return tomllib.loads(text)
            document.update(values)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        return tomllib.loads(text)
    return document


@lru_cache(maxsize=64)
def _piece(text: str) -> dict[str, Any]:
    """One piece, parsed once for all documents that share it."""
    return tomllib.loads(text)
