"""Server tables: CSV whose first line names the columns, the same turned on its side, or JSON with a list of objects.

A table becomes rows of fields, one for each gateway. A column whose heading is not known and that holds host names is
taken for the host; every other that is not understood is reported.
"""

from __future__ import annotations

import csv
import io
import ipaddress
import json
import re
from collections.abc import Iterable, Sequence
from typing import Any

from zesty_burrow.errors import Malformed
from zesty_burrow.intake.readers.vocabulary import DOUBTFUL, Field, Vocabulary, normalised, shipped
from zesty_burrow.records import dataclass, field

MAX_ROWS = 10_000
MAX_COLUMNS = 200
_LABEL = r"[a-z0-9_](?:[a-z0-9-]{0,61}[a-z0-9])?"
HOST_NAME = re.compile(rf"(?=.{{4,253}}$)(?:{_LABEL}\.){{1,8}}[a-z](?:[a-z0-9-]{{0,61}}[a-z0-9])", re.IGNORECASE)
HEADINGS = frozenset(
    ("value", "values", "setting", "wert", "werte", "eintrag", "valeur", "valor", "valore", "waarde", "verdi",
     "wartosc", "vrednost", "vaartus")
)  # fmt: skip
"""What stands above the values of a sheet of two columns."""
RULE = re.compile(r"^[\s|+:=-]+$")
"""A line of a table that only separates others."""
BETWEEN = ",;\t|"


@dataclass(slots=True)
class TableRow:
    """One filled-in sheet, or one line of a table: values by field, and labels that were not understood.

    ``passed``: labels that are known and have nothing for a profile. ``trimmed``: secrets behind which blanks were left
    out. ``guessed``: labels that may mean something else, with what they were taken for. ``prose``: lines that are no
    label with a value, as "1-3, 7". ``loose``: hosts in them.
    """

    values: dict[Field, list[str]] = field(default_factory=dict)
    unknown: list[str] = field(default_factory=list)
    passed: list[str] = field(default_factory=list)
    trimmed: list[Field] = field(default_factory=list)
    guessed: list[str] = field(default_factory=list)
    prose: str = ""
    loose: list[str] = field(default_factory=list)
    words: Vocabulary = field(default_factory=shipped, repr=False)

    def put(self, label: str, value: str, *, tolerant: bool = True) -> Field | None:
        """Take a label and its value; what it means. ``tolerant``: see :meth:`Vocabulary.match`."""
        found = self.words.match(label, tolerant=tolerant)
        value = value.strip()
        if found is None:
            self.unknown.append(label.strip())
            return None
        if not self.values and " ".join(normalised(value)) in HEADINGS:
            # The heading of two columns: "Name; Value".
            self.passed.append(label.strip())
            return None
        if found.field in (Field.NOTHING, Field.LOAD):
            self.passed.append(label.strip())
        if value:
            self.values.setdefault(found.field, []).append(value)
            if found.confidence < DOUBTFUL:
                self.guessed.append(f"{label.strip()}: taken for {found.field} ({found.confidence:.0%} sure)")
        return found.field

    def first(self, which: Field) -> str:
        """The first value of a field, or an empty text."""
        return self.values.get(which, [""])[0]

    def answer(self, which: Field) -> bool | None:
        """A yes or a no, or None."""
        return self.words.yes_or_no(self.first(which))


def is_host(text: str) -> bool:
    """Whether a text is a host name of two labels or more, or an IP address."""
    plain = text.strip().rstrip(".")
    try:
        ipaddress.ip_address(plain)
    except ValueError:
        return HOST_NAME.fullmatch(plain) is not None
    return True


def delimiter_of(text: str) -> str:
    """What separates cells: what the first line that is no comment has most of."""
    first = next((line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")), "")
    return max(BETWEEN, key=first.count)


def cells_of(text: str) -> list[list[str]]:
    """The cells of a text in columns, without comments, empty lines, rules and the bars at a line's ends."""
    lines = []
    for line in text.lstrip("\ufeff").splitlines():
        bare = line.strip()
        if not bare or bare.startswith("#") or (RULE.match(bare) and not set(bare) <= {"-", " "}):
            continue
        lines.append(bare.strip("|") if bare.startswith("|") and bare.endswith("|") else line.rstrip("\r\n"))
    between = delimiter_of("\n".join(lines[:1]))
    rows: list[list[str]] = []
    for cells in csv.reader(io.StringIO("\n".join(lines)), delimiter=between, skipinitialspace=True):
        if len(rows) > MAX_ROWS:
            raise Malformed("a server table is too long", why=f"more than {MAX_ROWS} lines")
        if len(cells) > MAX_COLUMNS:
            raise Malformed("a server table is malformed", why=f"more than {MAX_COLUMNS} columns")
        if any(cell.strip() for cell in cells):
            rows.append([cell.strip() for cell in cells])
    return rows


def looks_like_table(text: str, words: Vocabulary | None = None, *, by_name: bool = True) -> bool:
    """Whether a text is a server table: a column (or line) for the host and, in CSV, one more that is known.

    ``by_name``: the file's name says that it is one; else each of its first lines has to have as many cells.
    """
    words = words or shipped()
    stripped = text.lstrip("\ufeff \t\r\n")
    try:
        if stripped[:1] in ("[", "{"):
            return any(row.first(Field.HOST) for row in read_table(text, words)[:1])
        rows = cells_of(stripped[:65536])[:20]
    except (Malformed, csv.Error):
        return False
    if len(rows) < 2 or len(rows[0]) < 2:
        return False
    if not by_name and len({len(row) for row in rows[:-1]}) != 1:
        return False
    return _headings(rows, words) is not None or _aside(rows, words) is not None


def _turned(rows: Sequence[Sequence[str]]) -> list[list[str]]:
    width = max(map(len, rows), default=0)
    return [[row[at] if at < len(row) else "" for row in rows] for at in range(width)]


def _headings(rows: Sequence[Sequence[str]], words: Vocabulary, *, guess: bool = True) -> int | None:
    """The column of the host, where the first row names columns; None where it does not.

    ``guess``: also a column without a known heading, by what is in it.
    """
    if len(rows) < 2 or any(is_host(cell) for cell in rows[0]):
        return None
    fields = _fields(rows[0], words)
    below = _turned(rows[1:])
    named = [at for at, field in enumerate(fields) if field in (Field.HOST, Field.HOST6)]
    if named:
        column = named[0] if any(_hold_hosts(below[at]) for at in named if at < len(below)) else None
    elif not guess or len(rows) < 3 or any(_is_value(cell, words) for cell in rows[0]):
        return None
    else:
        # Where no heading is known, what is in the columns has to tell.
        column = next((at for at, cells in enumerate(below) if at < len(fields) and _only_hosts(cells)), None)
    return column if column is not None and _is_confirmed(column, fields, is_named=bool(named)) else None


def _fields(heading: Sequence[str], words: Vocabulary) -> list[Field | None]:
    matches = [words.match(cell, tolerant=False) for cell in heading]
    return [match.field if match else None for match in matches]


def _is_confirmed(column: int, fields: Sequence[Field | None], *, is_named: bool) -> bool:
    """Whether other headings are known as well: one, or two where the host's is not, to be sure."""
    others = {field for at, field in enumerate(fields) if field is not None and at != column} - {Field.NOTHING}
    return column < len(fields) and bool(others) and (is_named or len(others) >= 2 or len(fields) == 2)


def _hold_hosts(cells: Sequence[str]) -> bool:
    return any(_hosts(cell) for cell in cells if cell)


def _only_hosts(cells: Sequence[str]) -> bool:
    return any(cells) and all(_hosts(cell) for cell in cells if cell)


def _is_value(cell: str, words: Vocabulary) -> bool:
    """Whether a cell is what stands below a heading: an answer, or something with a digit in it."""
    return words.yes_or_no(cell) is not None or any(letter.isdigit() for letter in cell)


def _aside(rows: Sequence[Sequence[str]], words: Vocabulary) -> int | None:
    """The line of the host, where the first column names lines; each other cell of that line is a host."""
    turned = _turned(rows)
    # One value beside each label is a sheet.
    line = _headings(turned, words, guess=False) if len(turned) > 2 else None
    return line if line is not None and all(_hosts(row[line]) for row in turned[1:]) else None


def _hosts(cell: str) -> bool:
    return all(is_host(part) for part in re.split(r"[,;\s]+", cell) if part)


def read_table(text: str, words: Vocabulary | None = None) -> list[TableRow]:
    """The rows of a server table. Raises only :class:`Malformed`."""
    stripped = text.lstrip("\ufeff \t\r\n")
    try:
        if stripped[:1] in "[{":
            return _json_rows(json.loads(stripped), words or shipped())
        return _csv_rows(cells_of(stripped), words or shipped())
    except (csv.Error, ValueError, RecursionError) as problem:
        raise Malformed("a server table is malformed", why=str(problem)[:200]) from None


def _csv_rows(cells: list[list[str]], words: Vocabulary) -> list[TableRow]:
    column = _headings(cells, words)
    if column is None and (aside := _aside(cells, words)) is not None:
        cells, column = _turned(cells), aside
    if not cells:
        return []
    labels = cells[0]
    words = words.preferring(labels)
    if len(cells) - 1 > MAX_ROWS:
        raise Malformed("a server table is too long", why=f"more than {MAX_ROWS} lines")
    rows = [_row(zip(labels, line, strict=False), words) for line in cells[1:]]
    if column is not None and labels[column] in rows[0].unknown:
        for row, line in zip(rows, cells[1:], strict=True):
            row.unknown.remove(labels[column])
            row.values.setdefault(Field.HOST, []).append(line[column] if column < len(line) else "")
        rows[0].guessed.append(f"{labels[column]}: taken for host, by what is in it")
    return rows


def _json_rows(document: Any, words: Vocabulary) -> list[TableRow]:
    if isinstance(document, dict):
        document = next((value for value in document.values() if isinstance(value, list)), [])
    if not isinstance(document, list) or len(document) > MAX_ROWS:
        raise Malformed("a server table is malformed", why=f"a list of up to {MAX_ROWS} objects is needed")
    rows = []
    for entry in document:
        if not isinstance(entry, dict):
            raise Malformed("a server table is malformed", why="a list of objects is needed")
        texts = {key: ", ".join(map(str, one)) if isinstance(one, list) else str(one) for key, one in entry.items()}
        rows.append(_row(texts.items(), words))
    return rows


def _row(pairs: Iterable[tuple[str, str]], words: Vocabulary) -> TableRow:
    row = TableRow(words=words)
    for label, value in pairs:
        row.put(label, value)
    return row
