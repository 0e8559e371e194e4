"""What a mistyped word may have meant. Loaded only where a word is wrong."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import SequenceMatcher

LIKE_ENOUGH = 0.6
WORSE = 0.1
MOST = 3
LONGEST = 64
"""A longer word is no typo, and comparing it takes long."""


def nearest(word: str, known: Iterable[str], most: int = MOST) -> tuple[str, ...]:
    """The known words that are most like another one, the likeliest first. Case does not matter."""
    wanted = word.casefold()
    if not wanted or len(wanted) > LONGEST:
        return ()
    rated = [(_likeness(wanted, one.casefold()), one) for one in dict.fromkeys(known)]
    # Those that are clearly less like it than the best would only be in the way.
    least = max(LIKE_ENOUGH, max((rate for rate, _ in rated), default=0.0) - WORSE)
    chosen = sorted((entry for entry in rated if entry[0] >= least), key=lambda entry: (-entry[0], entry[1]))
    return tuple(one for _, one in chosen[:most])


def _likeness(wanted: str, known: str) -> float:
    """From 0 to 1. A name of several parts, as ``quillwort-lisbon``, also counts by one of its parts."""
    parts = [known, *known.split("-")] if "-" in known.strip("-") else [known]
    best = 0.0
    for part in parts:
        matcher = SequenceMatcher(None, wanted, part)
        if matcher.quick_ratio() > best:
            best = max(best, matcher.ratio())
    return 1.0 if len(wanted) > 2 and wanted in known else best
