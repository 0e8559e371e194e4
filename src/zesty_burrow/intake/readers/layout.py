"""How a label and its value stand on a sheet: a colon between them, dots, a tab, columns, or a line each."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from zesty_burrow.intake.readers.vocabulary import DOUBTFUL, Vocabulary

MAX_LINES = 10_000
MAX_LINE = 1000
MAX_TOLERANT = 200
"""Labels of a sheet for which a letter or two may be wrong: comparing takes time."""
_BULLET = r"^\s*(?:[-*•▪‣·–]\s+)?"
_LABEL = r"([^\s:=|][^:=\t|]{1,59}?)"
CLEAR = (
    # A colon or an equals sign; a tab; dots, a line, an arrow that lead from one to the other; the cells of a table.
    re.compile(rf"{_BULLET}{_LABEL}\s*(?:[:=]|\uff1a)\s*(\S.*?)\s*$"),
    re.compile(rf"{_BULLET}{_LABEL}\s*\t\s*(\S.*?)\s*$"),
    re.compile(rf"{_BULLET}{_LABEL}\s*(?:\.{{3,}}|(?:\.\s){{3,}}|…+|_{{3,}}|-{{2,}}>|→|\u2192)\s*(\S.*?)\s*$"),
    re.compile(rf"^\s*\|\s*{_LABEL}\s*\|\s*(\S[^|]*?)\s*\|?\s*$"),
)
UNCLEAR = (
    # Only a gap, or a dash: it counts where the label is known.
    re.compile(rf"{_BULLET}{_LABEL}\s{{2,}}(\S.*?)\s*$"),
    re.compile(rf"{_BULLET}{_LABEL}\s+[-–—]\s+(\S.*?)\s*$"),
)
_ALONE = re.compile(rf"{_BULLET}([^\s:=|][^:=|]{{1,59}}?)\s*:?\s*$")


class Pair(NamedTuple):
    """A label with its value as it stands there, and whether the label is known."""

    label: str
    value: str
    known: bool
    trimmed: bool = False


def pairs(text: str, words: Vocabulary, *, tolerant: bool = True) -> Iterator[Pair]:
    """All of them; other lines are prose and are passed over. ``trimmed``: blanks stood behind the value."""
    lines = [line for line in text.splitlines()[:MAX_LINES] if len(line) <= MAX_LINE]
    left = MAX_TOLERANT if tolerant else 0
    waiting = ""
    for line in lines:
        if not line.strip():
            continue
        found = _clear(line) or _unclear(line, words)
        if found is not None:
            label, value = found
            match = words.match(label, tolerant=False)
            if match is None and left > 0 and len(label.split()) <= 3:
                left -= 1
                match = words.match(label)
            if match is not None or not waiting:
                waiting = ""
                yield Pair(label, value, match is not None, line != line.rstrip())
                continue
        if waiting:
            # The line under a label that stands alone.
            yield Pair(waiting, line.strip(), known=True, trimmed=line != line.rstrip())
            waiting = ""
            continue
        waiting = _label_alone(line, words)


def _clear(line: str) -> tuple[str, str] | None:
    for pattern in CLEAR:
        if match := pattern.match(line):
            label, value = match.groups()
            return label, value
    return None


def _unclear(line: str, words: Vocabulary) -> tuple[str, str] | None:
    for pattern in UNCLEAR:
        if match := pattern.match(line):
            label, value = match.groups()
            known = words.match(label, tolerant=False)
            if known is not None and known.confidence >= DOUBTFUL:
                return label, value
    return None


def _label_alone(line: str, words: Vocabulary) -> str:
    match = _ALONE.match(line)
    known = words.match(match[1], tolerant=False) if match else None
    return match[1] if match and known is not None and known.confidence >= DOUBTFUL else ""
