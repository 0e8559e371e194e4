"""PDF (ISO 32000) by pypdf: the text of each page as it is laid out, and its pictures for the codes in them."""

from __future__ import annotations

import io
from typing import Any

from zesty_burrow.extras import require
from zesty_burrow.intake.documents.blocks import Block, Cut, OpenedDocument, Picture, files_of, first
from zesty_burrow.intake.documents.document import DocumentKind
from zesty_burrow.intake.documents.guard import reading
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.vocabulary import Vocabulary

MAX_PAGES = 200
MAX_PICTURES = 50
MAX_PIXELS = 40_000_000


def read_pdf_untrusted(member: KitFile, words: Vocabulary) -> OpenedDocument:
    """The text and the pictures of a PDF. Raises only ``InputError``."""
    require("documents")
    with reading(member, "PDF"):
        import pypdf

        document = pypdf.PdfReader(io.BytesIO(member.data))
        if document.is_encrypted and not document.decrypt(""):
            raise refused("document-locked", member.path, "it is a PDF under a password")
        blocks: list[Block] = []
        for page in first(document.pages, MAX_PAGES, "pages"):
            if isinstance(page, Cut):
                blocks.append(page)
                continue
            blocks.append(page.extract_text(extraction_mode="layout", layout_mode_space_vertically=False))
            blocks += _pictures(page, MAX_PICTURES - sum(isinstance(block, Picture) for block in blocks))
        return files_of(member, blocks, words)


KIND = DocumentKind("PDF", lambda look: look.head.startswith(b"%PDF-"), read_pdf_untrusted)


def _pictures(page: Any, most: int) -> list[Block]:
    blocks: list[Block] = []
    for name in first(list(page.images.keys()), max(most, 0), "pictures of a page"):
        if isinstance(name, Cut):
            blocks.append(name)
            continue
        entry = page.images[name]
        if entry.image is not None and entry.image.width * entry.image.height <= MAX_PIXELS:
            out = io.BytesIO()
            entry.image.convert("L").save(out, "PNG", compress_level=1)
            blocks.append(Picture(out.getvalue()))
    return blocks
