"""What a terminal shows: nothing cut, nothing wider than it, and a bar that makes way for every line."""

from __future__ import annotations

import io
import os
import pty
import re
import subprocess
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.report.layout import Column, Console, Indented, Table, Text, cell_width

WORDS = st.text("abcdefgh0123456789.:/-é漢", min_size=1, max_size=30)
CELLS = st.lists(WORDS, max_size=6).map(" ".join)
COLUMNS = st.lists(st.tuples(WORDS | st.just(""), st.booleans(), st.booleans()), min_size=1, max_size=6)
PAINTED = "\r\x1b[K"


@st.composite
def tables(draw) -> tuple[list[tuple[str, bool, bool]], list[list[str]]]:
    columns = draw(COLUMNS)
    row = st.lists(CELLS, min_size=len(columns), max_size=len(columns))
    return columns, draw(st.lists(row, min_size=1, max_size=5))


def printed(part, width: int, monkeypatch_columns: pytest.MonkeyPatch) -> list[str]:
    monkeypatch_columns.setenv("COLUMNS", str(width))
    stream = io.StringIO()
    Console(stream).print(part)
    return stream.getvalue().splitlines()


@given(tables(), st.integers(20, 140), st.integers(0, 4))
def test_no_value_is_cut(made, width, left):
    """Every letter of every cell is there, in its order, and no line is wider than the terminal."""
    columns, rows = made
    table = Table(*(Column(heading, whole=whole, right=right) for heading, whole, right in columns))
    for row in rows:
        table.add_row(*row)
    with pytest.MonkeyPatch.context() as patch:
        lines = printed(Indented(table, left), width, patch)
    assert all(cell_width(line) <= width and line == line.rstrip() for line in lines)
    shown = sorted("".join(lines).replace(" ", ""))
    values = sorted("".join(cell for row in rows for cell in row).replace(" ", ""))
    rest = iter(shown)
    assert all(any(letter == other for other in rest) for letter in values)


@given(CELLS, st.integers(20, 80))
def test_text_is_wrapped_between_words(text, width):
    """A word that fits a line is never broken."""
    with pytest.MonkeyPatch.context() as patch:
        lines = printed(Text(text), width, patch)
    if all(cell_width(word) <= width for word in text.split()):
        assert [word for line in lines for word in line.split()] == text.split()
    assert re.sub(r"\s", "", "".join(lines)) == text.replace(" ", "")


def test_a_bar_makes_way():
    """On a terminal, a line that is printed during a long work stands by itself, and the bar is gone at the end."""
    call = (
        "from zesty_burrow.report.reporter import Reporter\nreporter = Reporter()\n"
        "with reporter.progress('rehearsing') as progress:\n"
        "    progress(1, 4)\n    reporter.note('lisbon: fit')\n    progress(2, 4)\nreporter.note('done')"
    )
    ours, theirs = pty.openpty()
    environment = {**os.environ, "TERM": "xterm", "COLUMNS": "80"}
    subprocess.run([sys.executable, "-c", call], stderr=theirs, env=environment, check=True)
    os.close(theirs)
    said = os.read(ours, 65536).decode()
    os.close(ours)
    assert said.count("rehearsing [") == 2
    assert f"1/4\x1b[K{PAINTED}lisbon: fit\r\n" in said
    assert said.endswith(f"2/4\x1b[K{PAINTED}done\r\n")
