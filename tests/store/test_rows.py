"""Which rows match."""

from __future__ import annotations

from dataclasses import replace

import pytest

from zesty_burrow.lab import story
from zesty_burrow.store.rows import ProfileRow, matching

ROW = ProfileRow(
    "quillwort-lisbon", story.PROVIDER, "PT", "Lisbon", "ikev2", "d", "kit", "2026-01-01T00:00:00Z", "sea Boats"
)
OTHER = replace(ROW, name="quillwort-tromsoe", country="NO", city="TROMSØ", tags="")


@pytest.mark.parametrize(
    ("words", "where", "found"),
    [
        ((), {}, "LT"),
        (("lisb",), {}, "L"),
        (("QUILL", "pt"), {}, "L"),
        (("tromsø",), {}, "T"),
        (("100%",), {}, ""),
        (("_",), {}, ""),
        ((), {"place": "tromsø"}, "T"),
        ((), {"place": "pt"}, "L"),
        ((), {"place": "p"}, ""),
        ((), {"tag": "boats"}, "L"),
        ((), {"tag": "boat"}, ""),
        ((), {"provider": story.PROVIDER.upper()}, "LT"),
        (("lisbon",), {"protocol": "other"}, ""),
        (("Lisboa",), {}, "L"),
        (("LISSABON", "sea"), {}, "L"),
        (("Portugalska",), {}, "L"),
        (("tromso",), {}, "T"),
        (("Norwegen",), {}, "T"),
        (("no",), {}, "T"),
        (("is",), {}, ""),
        (("sb",), {}, ""),
        (("Lisboa", "Norge"), {}, ""),
        ((), {"place": "Lizbona"}, "L"),
        ((), {"place": "Noruega"}, "T"),
        ((), {"place": "Tromsoe"}, "T"),
        ((), {"place": "Porto"}, ""),
    ],
)
def test_matching(words, where, found):
    """Words are parts, whatever the case and the alphabet; options are whole values; nothing is a pattern."""
    assert matching([ROW, OTHER], words, **where) == [{"L": ROW, "T": OTHER}[letter] for letter in found]
