"""Office documents: Word's (ECMA-376) by python-docx; texts and spreadsheets of OpenDocument by odfdo."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any

from zesty_burrow.extras import require
from zesty_burrow.intake.documents.blocks import Block, Cut, OpenedDocument, Picture, Table, files_of, first
from zesty_burrow.intake.documents.document import OPEN_DOCUMENT, DocumentKind
from zesty_burrow.intake.documents.guard import reading
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.vocabulary import Vocabulary

MAX_PICTURES = 50


def read_docx_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """A Word document's paragraphs, tables, headers, footers and pictures. Raises only ``InputError``."""
    require("documents")
    with reading(member, "Word document"):
        import docx

        document = docx.Document(io.BytesIO(member.data))
        return files_of(member, list(_docx_blocks(document)), words)


def _docx_blocks(document: Any) -> Iterator[Block]:
    for section in document.sections:
        yield from _docx_content(section.header)
    yield from _docx_content(document)
    for section in document.sections:
        yield from _docx_content(section.footer)
    parts = document.part.package.iter_parts()
    # What stands for the document in a folder is not in it.
    related = [one for one in parts if one.content_type.startswith("image/") and "/docProps/" not in one.partname]
    for part in first(related, MAX_PICTURES, "pictures"):
        yield part if isinstance(part, Cut) else Picture(part.blob)


def _docx_content(container: Any) -> Iterator[Block]:
    from docx.table import Table as DocxTable

    for block in container.iter_inner_content():
        if isinstance(block, DocxTable):
            # Merged cells are the same element in each of their places.
            yield Table([[cell.text for cell in dict.fromkeys(row.cells)] for row in block.rows])
        else:
            yield block.text


def read_open_document_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """An OpenDocument text or spreadsheet. Raises only ``InputError``."""
    require("documents")
    with reading(member, "OpenDocument file"):
        import odfdo

        document = odfdo.Document(io.BytesIO(member.data))
        blocks = list(_odf_blocks(document.body))
        parts: Any = document.container
        names = sorted(name for name in parts.parts if name.startswith("Pictures/"))
        for name in first(names, MAX_PICTURES, "pictures"):
            if isinstance(name, Cut):
                blocks.append(name)
            elif isinstance(octets := parts.get_part(name), bytes):
                blocks.append(Picture(octets))
        return files_of(member, blocks, words)


def _odf_blocks(body: Any) -> Iterator[Block]:
    for element in body.children:
        if element.tag == "table:table":
            yield Table([[_odf_cell(cell) for cell in row] for row in _odf_rows(element)], title=element.name or "")
        elif element.tag in ("text:p", "text:h"):
            yield _odf_text(element)
        elif element.tag in ("text:list", "text:list-item", "text:section", "text:index-body", "office:text"):
            yield from _odf_blocks(element)


def _odf_rows(table: Any) -> Iterator[list[Any]]:
    """Rows as they are written; those that are repeated to the end of a sheet are empty."""
    for row in table.get_elements("descendant::table:table-row"):
        yield row.get_elements("table:table-cell")


def _odf_cell(cell: Any) -> str:
    return "\n".join(_odf_text(element) for element in cell.get_elements("text:p | text:h"))


def _odf_text(element: Any) -> str:
    """The text of a paragraph, with its blanks, tabs and breaks (OpenDocument 1.3 part 3, 6.1)."""
    return str(element.inner_text)


WORD = DocumentKind("Word document", lambda look: "word/document.xml" in look.entries, read_docx_untrusted)
OPEN = DocumentKind(
    "OpenDocument", lambda look: look.media_type.startswith(OPEN_DOCUMENT), read_open_document_untrusted
)
