"""Spreadsheets (ECMA-376) by openpyxl: values alone, no formulas, each sheet a table."""

from __future__ import annotations

import datetime
import io
from typing import Any

from zesty_burrow.extras import require
from zesty_burrow.intake.documents.blocks import (
    MAX_COLUMNS,
    MAX_ROWS,
    Block,
    Cut,
    OpenedDocument,
    Picture,
    Table,
    files_of,
    first,
)
from zesty_burrow.intake.documents.document import DocumentKind
from zesty_burrow.intake.documents.guard import reading
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.vocabulary import Vocabulary

MAX_SHEETS = 50
MAX_PICTURES = 50


def read_xlsx_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """A workbook's visible and hidden sheets, and its pictures. Raises only ``InputError``."""
    require("documents")
    with reading(member, "spreadsheet"):
        import zipfile

        import openpyxl

        book = openpyxl.load_workbook(io.BytesIO(member.data), read_only=True, data_only=True)
        blocks: list[Block] = []
        for sheet in first(book.worksheets, MAX_SHEETS, "sheets"):
            if isinstance(sheet, Cut):
                blocks.append(sheet)
                continue
            # One more of each than is kept, so that it is noticed.
            rows = sheet.iter_rows(max_row=MAX_ROWS + 1, max_col=MAX_COLUMNS + 1, values_only=True)
            blocks.append(Table([[_cell(value) for value in row] for row in rows], title=sheet.title))
        with zipfile.ZipFile(io.BytesIO(member.data)) as packed:
            names = sorted(name for name in packed.namelist() if name.startswith("xl/media/"))
            for name in first(names, MAX_PICTURES, "pictures"):
                blocks.append(name if isinstance(name, Cut) else Picture(packed.read(name)))
        return files_of(member, blocks, words)


KIND = DocumentKind("spreadsheet", lambda look: "xl/workbook.xml" in look.entries, read_xlsx_untrusted)


def _cell(value: Any) -> str:
    """A value as the sheet shows it: whole numbers without a fraction, truth as a word, days without an hour."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, datetime.datetime) and value.time() == datetime.time():
        return value.date().isoformat()
    return str(value)
