"""The kinds of documents: a file each, and a line here; and what is known and cannot be read."""

from __future__ import annotations

import io
import zipfile

from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.budget import Left
from zesty_burrow.intake.documents import office, page, pdf, rich_text, spreadsheet
from zesty_burrow.intake.documents.document import ZIP_MARK, DocumentKind, DocumentReader, Look
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

KINDS: list[DocumentKind] = [office.WORD, spreadsheet.KIND, office.OPEN, pdf.KIND, rich_text.KIND, page.KIND]
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


def document_reader_for(member: KitFile) -> DocumentReader | None:
    """The reader, or None for what is no document. Raises ``InputError`` for a document that unpacks to too much."""
    look = _look_at(member)
    if look.is_office and sum(look.entries.values()) > limits.MAX_DOCUMENT:
        raise refused("archive-bomb", member.path, f"it unpacks to {sum(look.entries.values())} octets")
    return next((kind.read for kind in KINDS if kind.is_one(look)), None)


def _look_at(member: KitFile) -> Look:
    if not member.data.startswith(ZIP_MARK):
        return Look(member)
    try:
        with zipfile.ZipFile(io.BytesIO(member.data)) as opened:
            entries = {entry.filename: entry.file_size for entry in opened.infolist()[: limits.MAX_MEMBERS]}
            media_type = opened.read("mimetype")[:100] if 0 < entries.get("mimetype", 0) < 100 else b""
    except (zipfile.BadZipFile, OSError, ValueError, RuntimeError, NotImplementedError, EOFError, KeyError):
        return Look(member)
    return Look(member, entries, media_type)


def not_readable(member: KitFile) -> Left | None:
    """What is known by its first octets and cannot be read, with what it is."""
    for mark, slug, words in UNREADABLE:
        if member.data.startswith(mark):
            return Left(member, slug, words)
    return None
