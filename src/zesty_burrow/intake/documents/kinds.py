"""Which library reads a document, by its content; and what is known and cannot be read."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Callable

from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.budget import Left
from zesty_burrow.intake.documents.blocks import Opened
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.vocabulary import Vocabulary

DocumentReader = Callable[[KitFile, Vocabulary], Opened]
PAGE_ENDINGS = (".html", ".htm", ".xhtml")
PAGE_MARKS = (b"<!doctype html", b"<html")
OLE_MARK = bytes.fromhex("d0cf11e0a1b11ae1")
"""Compound files: documents of the years before 2007, and newer ones under a password."""
UNREADABLE = (
    (b"7z\xbc\xaf\x27\x1c", "archive-unknown", "7z"),
    (b"Rar!\x1a\x07", "archive-unknown", "RAR"),
    (b"BZh", "archive-unknown", "bzip2"),
    (b"\x28\xb5\x2f\xfd", "archive-unknown", "Zstandard"),
    (b"MSCF", "archive-unknown", "cabinet"),
    (OLE_MARK, "document-old", "an office document of the years before 2007, or one under a password"),
)
HEAD = 1024


def document_reader_for(member: KitFile) -> DocumentReader | None:
    """The reader, or None for what is no document."""
    data = member.data
    if data.startswith(b"PK\x03\x04"):
        return _zipped(member)
    if data[:HEAD].lstrip()[:5] == b"%PDF-":
        from zesty_burrow.intake.documents import pdf

        return pdf.read_pdf_untrusted
    if data.startswith(b"{\\rtf"):
        from zesty_burrow.intake.documents import rich_text

        return rich_text.read_rich_text_untrusted
    head = data[:HEAD].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if member.name.lower().endswith(PAGE_ENDINGS) or head.startswith(PAGE_MARKS):
        from zesty_burrow.intake.documents import page

        return page.read_page_untrusted
    return None


def _zipped(member: KitFile) -> DocumentReader | None:
    """Office documents are ZIP archives with parts of certain names (ECMA-376 part 2; OpenDocument 1.3 part 2)."""
    try:
        with zipfile.ZipFile(io.BytesIO(member.data)) as opened:
            entries = {entry.filename: entry.file_size for entry in opened.infolist()[: limits.MAX_MEMBERS]}
            kind = opened.read("mimetype")[:100] if 0 < entries.get("mimetype", 0) < 100 else b""
    except (zipfile.BadZipFile, OSError, ValueError, RuntimeError, NotImplementedError, EOFError, KeyError):
        return None
    is_office = "[Content_Types].xml" in entries or kind.startswith(b"application/vnd.oasis.opendocument.")
    if is_office and sum(entries.values()) > limits.MAX_DOCUMENT:
        raise refused("archive-bomb", member.path, f"it unpacks to {sum(entries.values())} octets")
    if "word/document.xml" in entries:
        from zesty_burrow.intake.documents import office

        return office.read_docx_untrusted
    if "xl/workbook.xml" in entries:
        from zesty_burrow.intake.documents import spreadsheet

        return spreadsheet.read_xlsx_untrusted
    if kind.startswith(b"application/vnd.oasis.opendocument."):
        from zesty_burrow.intake.documents import office

        return office.read_open_document_untrusted
    return None


def not_readable(member: KitFile) -> Left | None:
    """What is known by its first octets and cannot be read, with what it is."""
    for mark, slug, words in UNREADABLE:
        if member.data.startswith(mark):
            return Left(member, slug, words)
    return None
