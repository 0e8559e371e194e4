"""How a label and its value stand on a sheet: a colon between them, dots, a tab, columns, or a line each."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from zesty_burrow.intake.readers.vocabulary import DOUBTFUL, MOST_WORDS, UNSURE, Vocabulary

MAX_LINES = 10_000
MAX_LINE = 1000
FEW = 2
"""Labels that are known for certain, after which others in the same layout need not be."""
MAX_TOLERANT = 200
"""Labels of a sheet for which a letter or two may be wrong: comparing takes time."""
_BULLET = r"^\s*(?:[-*•▪‣·–]\s+)?"
_LABEL = r"([^\s:=|][^:=\t|]{1,59}?)"
CLEAR = (
    # A colon or an equals sign; a tab; dots, a line, an arrow that lead from one to the other; the cells of a table.
    re.compile(rf"{_BULLET}{_LABEL}\s*(?:[:=]|\uff1a)\s*(\S.*?)\s*$"),
    re.compile(rf"{_BULLET}{_LABEL}\s*\t\s*(\S.*?)\s*$"),
    re.compile(
        rf"{_BULLET}{_LABEL}\s*(?:\.{{3,}}|(?<=\s)\.\.(?=\s)|(?:\.\s){{3,}}|…+|_{{3,}}|-{{2,}}>|→|\u2192)\s*(\S.*?)\s*$"
    ),
    re.compile(rf"^\s*\|\s*{_LABEL}\s*\|\s*(\S[^|]*?)\s*\|?\s*$"),
)
UNCLEAR = (
    # Only a gap, or a dash: it counts where the label is known.
    re.compile(rf"{_BULLET}{_LABEL}\s{{2,}}(\S.*?)\s*$"),
    re.compile(rf"{_BULLET}{_LABEL}\s+[-–—]\s+(\S.*?)\s*$"),
)
CELLS = re.compile(r"\s{2,}|\t+|\s*\|\s*")
_ALONE = re.compile(rf"{_BULLET}([^\s:=|][^:=|]{{1,59}}?)\s*:?\s*$")


class Pair(NamedTuple):
    """A label with its value as it stands there, whether the label is known, and in which line the value is.

    ``trimmed``: blanks stood behind the value. ``label_at``: the line of the label.
    """

    label: str
    value: str
    known: bool
    trimmed: bool = False
    at: int = 0
    label_at: int = 0


def _habits(lines: Sequence[str], words: Vocabulary) -> tuple[bool, bool, bool]:
    """How its author sets labels out: with gaps behind them, alone on a line, with a blank behind them."""
    gaps = sum(_clear(line) is None and _unclear(line, words) is not None for line in lines)
    alone = sum(_clear(line) is None and _label_alone(line, words) != "" for line in lines)
    begun = sum(_first_words(line, words) is not None for line in lines)
    return gaps >= FEW, alone >= FEW, begun > max(FEW, alone)


def _lines(text: str) -> list[str]:
    return [line if len(line) <= MAX_LINE else "" for line in text.splitlines()[:MAX_LINES]]


def _is_known(label: str, words: Vocabulary, left: int) -> tuple[bool, int]:
    """``left``: how often the slower, tolerant match may yet be tried; and how often after this."""
    if words.match(label, tolerant=False) is not None:
        return True, left
    if left <= 0 or len(label.split()) > MOST_WORDS:
        return False, left
    return words.match(label) is not None, left - 1


def _split(line: str, words: Vocabulary, *, lenient: bool, by_blanks: bool) -> tuple[str, str] | None:
    found = _clear(line) or _unclear(line, words, lenient=lenient)
    return _first_words(line, words) if found is None and by_blanks else found


def pairs(text: str, words: Vocabulary, *, tolerant: bool = True) -> Iterator[Pair]:
    """All of them, with the numbers of their lines from 1; other lines are prose and are passed over.

    Where two labels with a gap behind them, or two that stand alone, are known for certain, others that stand in the
    same way need not be known as well. Where three lines begin with known labels, a blank behind them is enough.
    """
    lines = _lines(text)
    left = MAX_TOLERANT if tolerant else 0
    lenient_gap, lenient_alone, by_blanks = _habits(lines, words) if tolerant else (False, False, False)
    waiting, since, sure = "", 0, True
    for number, line in enumerate(lines, start=1):
        if not line.strip():
            continue
        ends_in_blanks = line != line.rstrip()
        if cells := _several(line, words):
            waiting = ""
            for label, value in cells:
                yield Pair(label, value, True, False, number, number)
            continue
        found = _split(line, words, lenient=lenient_gap, by_blanks=by_blanks and not waiting)
        if found is not None:
            label, value = found
            is_known, left = _is_known(label, words, left)
            if is_known or not waiting:
                waiting = ""
                yield Pair(label, value, is_known, ends_in_blanks, number, number)
                continue
        known = "" if by_blanks else _label_alone(line, words)
        if waiting and (sure or not known):
            # The line under a label that stands alone.
            yield Pair(waiting, line.strip(), True, ends_in_blanks, number, since)
            waiting = ""
            continue
        sure, since, waiting = bool(known), number, known
        if not known and lenient_alone and not by_blanks:
            waiting = _label_alone(line, words, lenient=True)


def _several(line: str, words: Vocabulary) -> list[tuple[str, str]]:
    """Labels and values by turns in one line, with gaps, tabs or bars between them: a table of four columns."""
    cells = [
        cell.strip().rstrip(":") for cell in re.split(r"\s{2,}|\t+|\s*\|\s*", line.strip().strip("|")) if cell.strip()
    ]
    if len(cells) < 4 or len(cells) % 2 or not all(_is_label(cell, words, lenient=True) for cell in cells[::2]):
        return []
    return list(zip(cells[::2], cells[1::2], strict=True))


def _first_words(line: str, words: Vocabulary) -> tuple[str, str] | None:
    """A known label at a line's beginning, with only a blank behind it."""
    parts = line.split()
    if _clear(line) or not 2 <= len(parts) <= 2 * MOST_WORDS:
        return None
    for count in range(min(MOST_WORDS, len(parts) - 1), 0, -1):
        if any("." in part for part in parts[:count]):
            continue
        known = words.match(" ".join(parts[:count]), tolerant=False)
        if known is not None and known.confidence >= DOUBTFUL:
            return " ".join(parts[:count]), " ".join(parts[count:])
    return None


def _clear(line: str) -> tuple[str, str] | None:
    for pattern in CLEAR:
        if match := pattern.match(line):
            label, value = match.groups()
            return label, value
    return None


def _unclear(line: str, words: Vocabulary, *, lenient: bool = False) -> tuple[str, str] | None:
    for pattern in UNCLEAR:
        if match := pattern.match(line):
            label, value = match.groups()
            if _is_label(label, words, lenient=lenient):
                return label, value
    return None


def _label_alone(line: str, words: Vocabulary, *, lenient: bool = False) -> str:
    match = _ALONE.match(line)
    return match[1] if match and _is_label(match[1], words, lenient=lenient) else ""


def _is_label(text: str, words: Vocabulary, *, lenient: bool) -> bool:
    known = words.match(text, tolerant=False)
    if known is not None and known.confidence >= DOUBTFUL:
        return True
    if lenient and len(text.split()) <= MOST_WORDS:
        known = words.match(text)
        return known is not None and known.confidence >= UNSURE
    return False
