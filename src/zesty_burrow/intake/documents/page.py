"""Saved web pages: the lines that a reader sees, and the tables among them."""

from __future__ import annotations

import re
from html.parser import HTMLParser

from zesty_burrow.intake.documents.blocks import Block, OpenedDocument, Table, files_of
from zesty_burrow.intake.documents.document import HEAD, DocumentKind, Look
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.encodings import decode_untrusted
from zesty_burrow.intake.readers.vocabulary import Vocabulary

BREAKS = frozenset("p div li h1 h2 h3 h4 h5 h6 dt tr table section article header footer ul ol form".split())  # noqa: SIM905
HIDDEN = frozenset({"script", "style", "head", "template"})
ENDINGS = (".html", ".htm", ".xhtml")
MARKS = (b"<!doctype html", b"<html")
MAX_SPAN = 20
MARKED = re.compile(r"<!\[")
"""Marked sections (ISO 8879 clause 10.4), which pages do not have, and of which the library's parser makes errors."""


class _Page(HTMLParser):
    """Gathers blocks. A table inside another belongs to the cell that it is in."""

    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.blocks: list[Block] = []
        self._line: list[str] = []
        self._hidden = 0
        self._depth = 0
        self._rows: list[list[str]] = []
        self._cell: list[str] | None = None
        self._span = 1

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in HIDDEN:
            self._hidden += 1
        elif tag == "table":
            self._end_line()
            self._depth += 1
        elif self._depth == 1 and tag == "tr":
            self._end_cell()
            self._rows.append([])
        elif self._depth == 1 and tag in ("td", "th"):
            self._end_cell()
            if not self._rows:
                self._rows.append([])
            self._cell = []
            span = dict(attrs).get("colspan") or ""
            self._span = min(int(span), MAX_SPAN) if span.isascii() and span.isdigit() else 1
        elif tag == "br":
            self._add("\n")
        elif tag == "dd":
            # Its label is the line before it.
            self._add("\t")
        elif tag in BREAKS:
            self._add("\n")
        elif tag in ("input", "textarea"):
            # A form's fields keep what was entered.
            self._add(" " + (dict(attrs).get("value") or "") + " ")

    def handle_endtag(self, tag: str) -> None:
        if tag in HIDDEN and self._hidden:
            self._hidden -= 1
        elif tag == "table" and self._depth:
            self._depth -= 1
            if self._depth == 0:
                self._end_cell()
                self.blocks.append(Table(self._rows))
                self._rows = []
        elif self._depth == 1 and tag in ("td", "th", "tr"):
            self._end_cell()
        elif tag in BREAKS and tag != "dt":
            self._add("\n")

    def handle_data(self, data: str) -> None:
        if not self._hidden:
            self._add(re.sub(r"[ \t\r\n\f]+", " ", data))

    def _add(self, text: str) -> None:
        (self._line if self._cell is None else self._cell).append(text)

    def _end_cell(self) -> None:
        if self._cell is not None:
            text = " ".join("".join(self._cell).split())
            self._rows[-1] += [text] * max(self._span, 1)
            self._cell = None

    def _end_line(self) -> None:
        text = "".join(self._line)
        self._line = []
        self.blocks += [line for part in text.split("\n") if (line := part.strip(" "))]

    def close(self) -> None:
        super().close()
        self._end_cell()
        self._end_line()
        if self._rows:
            self.blocks.append(Table(self._rows))


def blocks_of_page(page: str) -> list[Block]:
    """The lines and tables of a page, whatever it is."""
    reader = _Page()
    reader.feed(MARKED.sub("<! ", page))
    reader.close()
    return reader.blocks


def read_page_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """A page's text and lists of gateways. Raises only ``InputError``, where it is no text."""
    return files_of(member, blocks_of_page(decode_untrusted(member.data, member.path).text), words)


def _is_page(look: Look) -> bool:
    if look.is_zip:
        return False
    head = look.member.data[:HEAD].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    return look.member.name.lower().endswith(ENDINGS) or head.startswith(MARKS)


KIND = DocumentKind("web page", _is_page, read_page_untrusted)
