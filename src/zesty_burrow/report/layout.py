"""How text is laid out on a terminal or in a pipe: styled lines, and tables without lines.

A table that is too wide first wraps the columns that may be wrapped. Where that is not enough, each row becomes a block
of its own with the headings beside the values. No value is ever cut. Nothing heavy is loaded: this is a part of what
every command takes to start.
"""

from __future__ import annotations

import os
import re
import sys
import unicodedata
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import TextIO

PIPE_WIDTH = 120
LEAST_WIDTH = 20
CODES: Mapping[str, str] = {
    "bold": "1", "dim": "2", "italic": "3", "red": "31", "green": "32", "yellow": "33", "blue": "34", "cyan": "36",
}  # fmt: skip
"""ECMA-48 §8.3.117 (SGR)."""
RESET = "\x1b[0m"
Span = tuple[str, str]
Line = list[Span]
_WORDS = re.compile(r"\s*\S+")


def cell_width(text: str) -> int:
    """Columns that a text takes on a terminal (Unicode Standard Annex 11)."""
    if text.isascii():
        return len(text)
    wide = sum(unicodedata.east_asian_width(letter) in "WF" for letter in text)
    return len(text) + wide - sum(unicodedata.combining(letter) != 0 for letter in text)


class Text:
    """Pieces of text, each with its style: words of :data:`CODES`, or none."""

    def __init__(self, text: str = "", style: str = "") -> None:
        self.spans: Line = [(text, style)] if text else []

    @classmethod
    def assemble(cls, *parts: str | Span) -> Text:
        """Of pieces with and without a style of their own."""
        made = cls()
        made.spans = [part if isinstance(part, tuple) else (part, "") for part in parts]
        made.spans = [span for span in made.spans if span[0]]
        return made

    @property
    def plain(self) -> str:
        """Without styles."""
        return "".join(text for text, _ in self.spans)

    def paragraphs(self) -> list[Line]:
        """The spans of each line of it."""
        lines: list[Line] = [[]]
        for text, style in self.spans:
            first, *others = text.split("\n")
            lines[-1].append((first, style))
            lines += [[(other, style)] for other in others]
        return lines

    def lines(self, width: int) -> Iterator[Line]:
        """Wrapped between words to a width; a word that is longer is broken."""
        for paragraph in self.paragraphs():
            yield from _wrapped(paragraph, width)


class Verbatim:
    """Lines that are printed as they are, whatever the width: a code that is drawn with blocks, say."""

    def __init__(self, text: str) -> None:
        self._text = text

    def lines(self, width: int) -> Iterator[Line]:
        for line in self._text.splitlines():
            yield [(line, "")]


class Indented:
    """A part that is moved to the right."""

    def __init__(self, part: Part, left: int = 2) -> None:
        self._part, self._left = part, left

    def lines(self, width: int) -> Iterator[Line]:
        """Each with blanks in front."""
        for line in as_part(self._part).lines(max(width - self._left, 1)):
            yield [(" " * self._left, ""), *line]


class Column:
    """``whole``: it is not wrapped; ``right``: its values stand to the right, as numbers do."""

    def __init__(self, heading: str = "", *, style: str = "", whole: bool = False, right: bool = False) -> None:
        self.heading, self.style = heading, style
        self.whole, self.right = whole or right, right


class Table:
    """``gap``: blanks between columns. Headings are shown where some column has one."""

    def __init__(self, *columns: Column, gap: int = 2) -> None:
        self._columns, self._gap = columns, gap
        self._rows: list[list[Text]] = []

    @property
    def row_count(self) -> int:
        """How many rows it has."""
        return len(self._rows)

    def add_row(self, *cells: str | Text) -> None:
        """A cell for each column."""
        texts = [cell if isinstance(cell, Text) else Text(cell) for cell in cells]
        for text, column in zip(texts, self._columns, strict=True):
            if column.style:
                text.spans = [(piece, style or column.style) for piece, style in text.spans]
        self._rows.append(texts)

    def lines(self, width: int) -> Iterator[Line]:
        """Side by side where that fits, else row by row."""
        headings = [Text(column.heading, "bold") for column in self._columns]
        has_headings = any(column.heading for column in self._columns)
        rows = [headings, *self._rows] if has_headings else self._rows
        widths = self._widths(rows, width)
        if widths is None and not has_headings:
            yield from self._stacked_grid(width)
        elif widths is None:
            yield from self._stacked(width)
        else:
            for row in rows:
                yield from self._side_by_side(row, widths)

    def _widths(self, rows: Sequence[Sequence[Text]], width: int) -> list[int] | None:
        """A width for each column; None where they do not fit side by side."""
        columns = list(zip(*rows, strict=True))
        wanted = [max(map(_natural, cells), default=0) for cells in columns]
        gaps = self._gap * (len(wanted) - 1)
        spare = width - gaps - sum(wanted)
        if spare >= 0:
            return wanted
        least = [
            size if column.whole else max((_longest_word(cell) for cell in cells), default=0)
            for size, column, cells in zip(wanted, self._columns, columns, strict=True)
        ]
        # A word of unusual length may be broken; figures and names are shorter.
        longest = max((width - gaps) // 2, LEAST_WIDTH)
        least = [
            size if column.whole else min(size, longest) for size, column in zip(least, self._columns, strict=True)
        ]
        if sum(least) + gaps > width:
            return None
        # What is left beyond the least is shared by what each column would like.
        room, wish = width - gaps - sum(least), sum(wanted) - sum(least)
        shared = [low + (high - low) * room // wish for low, high in zip(least, wanted, strict=True)]
        shared[max(range(len(shared)), key=lambda at: wanted[at] - shared[at])] += width - gaps - sum(shared)
        return shared

    def _side_by_side(self, row: Sequence[Text], widths: Sequence[int]) -> Iterator[Line]:
        if all(_is_short(text, size) for text, size in zip(row, widths, strict=True)):
            # Thousands of rows are mostly of this kind.
            pieces = [text.spans[0] if text.spans else ("", "") for text in row]
            pads = [" " * (size - cell_width(text)) for (text, _), size in zip(pieces, widths, strict=True)]
            gap = " " * self._gap
            if not any(style for _, style in pieces):
                triples = zip(self._columns, pieces, pads, strict=True)
                yield [(gap.join(pad + text if one.right else text + pad for one, (text, _), pad in triples), "")]
                return
            short: Line = []
            for column, span, pad in zip(self._columns, pieces, pads, strict=True):
                short += [(pad, ""), span, (gap, "")] if column.right else [span, (pad + gap, "")]
            yield short
            return
        cells = [list(text.lines(max(size, 1))) for text, size in zip(row, widths, strict=True)]
        for at in range(max(map(len, cells))):
            line: Line = []
            for column, size, lines in zip(self._columns, widths, cells, strict=True):
                piece = lines[at] if at < len(lines) else []
                blanks = (" " * (size - sum(cell_width(text) for text, _ in piece)), "")
                line += [blanks, *piece] if column.right else [*piece, blanks]
                line.append((" " * self._gap, ""))
            yield line

    def _stacked(self, width: int) -> Iterator[Line]:
        """Each row as a block: its first cell, and below it the others with their headings."""
        labels = max(cell_width(column.heading) for column in self._columns) + self._gap
        for first, *others in self._rows:
            yield from first.lines(width)
            for column, text in zip(self._columns[1:], others, strict=True):
                if text.plain:
                    label = (f"  {column.heading:<{labels}}", "dim")
                    yield from _beside(label, text, width)

    def _stacked_grid(self, width: int) -> Iterator[Line]:
        """Without headings: the cells of each row below each other."""
        for first, *others in self._rows:
            yield from first.lines(width)
            for text in others:
                if text.plain:
                    yield from Indented(text).lines(width)


Part = str | Text | Verbatim | Indented | Table


def as_part(part: Part) -> Text | Verbatim | Indented | Table:
    """A plain string is a text without a style."""
    return Text(part) if isinstance(part, str) else part


def _is_short(text: Text, width: int) -> bool:
    """Whether a cell is one piece that fits on one line."""
    spans = text.spans
    if not spans:
        return True
    piece = spans[0][0]
    return len(spans) == 1 and "\n" not in piece and cell_width(piece) <= width


def _natural(text: Text) -> int:
    return max((cell_width(line) for line in text.plain.split("\n")), default=0)


def _longest_word(text: Text) -> int:
    return max(map(cell_width, text.plain.split()), default=0)


def _beside(label: Span, text: Text, width: int) -> Iterator[Line]:
    indent = cell_width(label[0])
    if _longest_word(text) > width - indent:
        yield [label]
        yield from Indented(text, 4).lines(width)
        return
    for at, line in enumerate(text.lines(width - indent)):
        yield [label if at == 0 else (" " * indent, ""), *line]


def _wrapped(paragraph: Line, width: int) -> Iterator[Line]:
    """One line's spans as several lines of at most ``width`` columns."""
    if sum(cell_width(text) for text, _ in paragraph) <= width:
        yield paragraph
        return
    line: Line = []
    used = 0
    for text, style in _pieces(paragraph):
        size = cell_width(text)
        if used and used + size > width:
            yield line
            line, used = [], 0
            text = text.lstrip()
            size = cell_width(text)
        while size > width:
            cut = _fitting(text, width)
            yield [(text[:cut], style)]
            text = text[cut:]
            size = cell_width(text)
        line.append((text, style))
        used += size
    yield line


def _fitting(text: str, width: int) -> int:
    """How many characters of a text take at most ``width`` columns; at least one."""
    end = min(len(text), width)
    while end > 1 and cell_width(text[:end]) > width:
        end -= 1
    return end


def _pieces(paragraph: Line) -> Iterator[Span]:
    """The words of spans, each with the blanks in front of it."""
    for text, style in paragraph:
        end = 0
        for found in _WORDS.finditer(text):
            end = found.end()
            yield found.group(), style
        if end < len(text):
            yield text[end:], style


class Console:
    """A stream with its width and colours. Without a terminal there is no colour; ``NO_COLOR`` is honoured."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self.is_terminal = stream.isatty()
        self._coloured = self.is_terminal and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
        self.width = max(self._width(), LEAST_WIDTH)

    def _width(self) -> int:
        given = os.environ.get("COLUMNS", "")
        if given.isdigit() and int(given):
            return int(given)
        if not self.is_terminal:
            return PIPE_WIDTH
        try:
            return os.get_terminal_size(self._stream.fileno()).columns or PIPE_WIDTH
        except OSError:
            return PIPE_WIDTH

    def print(self, *parts: Part) -> None:
        """Each part from the start of a line."""
        self.print_all(parts)

    def print_all(self, parts: Iterable[Part]) -> None:
        """Many at once; lines have no blanks at their ends."""
        text = "".join(self._line(line) for part in parts for line in as_part(part).lines(self.width))
        self._stream.write(text)
        self._stream.flush()

    def blank(self) -> None:
        """An empty line."""
        self.print("")

    def _line(self, spans: Line) -> str:
        end = len(spans)
        while end and not spans[end - 1][0].strip():
            end -= 1
        kept = spans[:end]
        if kept:
            kept = [*kept[:-1], (kept[-1][0].rstrip(), kept[-1][1])]
        return "".join(map(self._styled, kept)) + "\n"

    def _styled(self, span: Span) -> str:
        text, style = span
        codes = ";".join(CODES[word] for word in style.split()) if style and self._coloured else ""
        return f"\x1b[{codes}m{text}{RESET}" if codes and text.strip() else text

    def ask(self, question: str) -> str:
        """A question and its answer as it was typed. Raises ``EOFError`` without an answer."""
        self._stream.write(question)
        self._stream.flush()
        _wait_for_a_line()
        return input()


def _wait_for_a_line() -> None:
    """Until a line was typed on the terminal, or a signal comes.

    A signal that arrives just before ``input`` begins to wait would only be noticed after the next line; the wake-up
    descriptor does not miss it.
    """
    if not sys.stdin.isatty():
        return  # what was read ahead of a line would not be seen by ``select``
    import select
    import signal

    reading, writing = os.pipe()
    os.set_blocking(writing, False)
    before = signal.set_wakeup_fd(writing, warn_on_full_buffer=False)
    try:
        select.select([sys.stdin, reading], [], [])
    finally:
        signal.set_wakeup_fd(before)
        os.close(reading)
        os.close(writing)


class Bar:
    """A line that shows how far a long work has come, and is gone when it is done."""

    WIDTH = 30

    def __init__(self, stream: TextIO, title: str) -> None:
        self._stream, self._title = stream, title
        self._shown = ""

    def update(self, done: int, total: int) -> None:
        """Paint it again where that shows anything new."""
        full = self.WIDTH * done // total if total else 0
        text = f"{self._title} [{'#' * full}{'.' * (self.WIDTH - full)}] {done}/{total}"
        if text != self._shown:
            self._stream.write(f"\r{text}\x1b[K")
            self._stream.flush()
            self._shown = text

    def clear(self) -> None:
        if self._shown:
            self._stream.write("\r\x1b[K")
            self._stream.flush()
            self._shown = ""


Update = Callable[[int, int], None]
