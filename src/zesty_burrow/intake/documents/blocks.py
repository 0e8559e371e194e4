"""A document as values: lines, tables and pictures in their order; and the plain files that are made of them.

A table that lists gateways becomes CSV; one of labels and values becomes lines. Cells that are merged count once.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple, TypeVar

from zesty_burrow.intake.containers.budget import Left
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers import tables
from zesty_burrow.intake.readers.vocabulary import Vocabulary
from zesty_burrow.records import dataclass, field, replace

T = TypeVar("T")
MAX_ROWS = 10_000
MAX_COLUMNS = 100
MAX_CELL = 2000


class Table(NamedTuple):
    """Rows of cells; ``title``: what it is called (a spreadsheet's sheet)."""

    rows: Sequence[Sequence[str]]
    title: str = ""


class Cut(NamedTuple):
    """Something of the document was not read: what, in words."""

    words: str


class Picture(NamedTuple):
    """A picture's octets, as they are in the document."""

    data: bytes


Block = str | Table | Picture | Cut


@dataclass(slots=True)
class OpenedDocument:
    """What a document became: plain files, and what of it could not be read."""

    files: list[KitFile] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)


def files_of(member: KitFile, blocks: Iterable[Block], words: Vocabulary) -> OpenedDocument:
    """One file with the document's lines, under its own name, one for each list of gateways, one for each picture."""
    opened = OpenedDocument()
    lines: list[str] = []
    lists = pictures = 0
    for block in blocks:
        if isinstance(block, Cut):
            opened.left.append(Left(member, "document-cut", block.words))
        elif isinstance(block, Picture):
            pictures += 1
            opened.files.append(member.inside(f"picture {pictures}", block.data))
        elif isinstance(block, str):
            lines += [line.rstrip("\r\n") for line in block.splitlines()]
        else:
            rows = tidy(block.rows)
            opened.left += [Left(member, "document-cut", words) for words in _cut(block)]
            if text := _list_of_gateways(rows, words):
                lists += 1
                opened.files.append(member.inside(f"{block.title or f'table {lists}'}.csv", text.encode()))
            else:
                lines += ["", *lines_of(rows, words), ""]
    if any(line.strip() for line in lines):
        whole = "\n".join(lines).replace("\xa0", " ").encode("utf-8", "replace")
        opened.files.insert(0, replace(member, data=whole, is_text=True))
    elif pictures and not lists:
        opened.left.append(Left(member, "document-picture", "what it holds is a picture: only QR codes are read"))
    return opened


def first(items: Sequence[T], most: int, what: str) -> Iterator[T | Cut]:
    """At most so many of something; a :class:`Cut` tells that there were more."""
    yield from items[:most]
    if len(items) > most:
        yield Cut(f"only the first {most} of {len(items)} {what} were read")


def _cut(table: Table) -> list[str]:
    """What :func:`tidy` leaves out."""
    name = f" of {table.title}" if table.title else ""
    widest = max((at for row in table.rows for at, cell in enumerate(row, start=1) if cell), default=0)
    words = [f"only the first {MAX_ROWS} rows{name} were read"] if len(table.rows) > MAX_ROWS else []
    return words + ([f"only the first {MAX_COLUMNS} columns{name} were read"] if widest > MAX_COLUMNS else [])


def tidy(rows: Sequence[Sequence[str]]) -> list[list[str]]:
    """Rows without what is empty throughout; a cell that is the same as the one before it, being merged, is empty."""
    plain = [[" ".join(str(cell).split())[:MAX_CELL] for cell in row[:MAX_COLUMNS]] for row in rows[:MAX_ROWS]]
    width = max(map(len, plain), default=0)
    filled = [any(at < len(row) and row[at] for row in plain) for at in range(width)]
    kept = [[row[at] if at < len(row) else "" for at in range(width) if filled[at]] for row in plain]
    return [row for row in kept if any(row)]


def _list_of_gateways(rows: list[list[str]], words: Vocabulary) -> str:
    """The rows as CSV from their line of headings on, where they list gateways; else an empty text."""
    for first in range(min(len(rows), 5)):
        text = _csv(rows[first:])
        if len(rows) - first > 1 and tables.looks_like_table(text, words):
            return text
    return ""


def _csv(rows: Sequence[Sequence[str]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue()


def lines_of(rows: Sequence[Sequence[str]], words: Vocabulary) -> list[str]:
    """A label and its value in each line: two cells of a row, or twice two."""
    lines = []
    for row in rows:
        cells = [cell for number, cell in enumerate(row) if cell and (number == 0 or cell != row[number - 1])]
        in_pairs = len(cells) > 2 and len(cells) % 2 == 0 and all(words.match(label) for label in cells[::2])
        if in_pairs:
            lines += [f"{label.rstrip(':')}\t{value}" for label, value in zip(cells[::2], cells[1::2], strict=True)]
        elif len(cells) > 1:
            lines.append(f"{cells[0].rstrip(':')}\t{', '.join(cells[1:])}")
        else:
            lines += cells
    return lines
