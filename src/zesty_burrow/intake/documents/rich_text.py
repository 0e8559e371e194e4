"""Rich text (RTF) by striprtf: its text, with a tab between the cells of a table."""

from __future__ import annotations

import re

from zesty_burrow.extras import require
from zesty_burrow.intake.documents.blocks import Block, OpenedDocument, Table, files_of
from zesty_burrow.intake.documents.document import DocumentKind
from zesty_burrow.intake.documents.guard import reading
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.vocabulary import Vocabulary

ROW = re.compile(r"^[^|\n]*(?:\|[^|\n]*)*\|$")
"""A table's row, as the library writes it: each cell with a bar behind it."""


def read_rich_text_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """The lines and tables of an RTF file. Raises only ``InputError``."""
    require("documents")
    with reading(member, "RTF"):
        from striprtf.striprtf import rtf_to_text

        octets = member.data.decode("latin-1")
        text: str = rtf_to_text(octets, encoding="cp1252", errors="replace")  # type: ignore[no-untyped-call]
        return files_of(member, _blocks(text), words)


KIND = DocumentKind("RTF", lambda look: look.member.data.startswith(b"{\\rtf"), read_rich_text_untrusted)


def _blocks(text: str) -> list[Block]:
    blocks: list[Block] = []
    rows: list[list[str]] = []
    for line in text.splitlines():
        if ROW.match(line) and line.count("|") > 1:
            rows.append(line.rstrip("|").split("|"))
            continue
        if rows:
            blocks.append(Table(rows))
            rows = []
        blocks.append(line)
    return [*blocks, Table(rows)] if rows else blocks
