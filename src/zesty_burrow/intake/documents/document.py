"""What a kind of document is: how a file is recognised as one, and what reads it."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zesty_burrow.intake.documents.blocks import OpenedDocument
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.readers.vocabulary import Vocabulary
from zesty_burrow.records import dataclass, field

HEAD = 1024
ZIP_MARK = b"PK\x03\x04"
DocumentReader = Callable[[KitFile, Vocabulary], OpenedDocument]
"""Raises only ``InputError``."""


@dataclass(frozen=True, slots=True)
class Look:
    """What a kind is recognised by: the ``member``, and, if it is a ZIP archive, the sizes of its ``entries`` by name
    and what its first entry says of the ``media_type``.
    """

    member: KitFile
    entries: Mapping[str, int] = field(default_factory=dict)
    media_type: bytes = b""

    @property
    def head(self) -> bytes:
        """The first octets, without blanks before them."""
        return self.member.data[:HEAD].lstrip()

    @property
    def is_zip(self) -> bool:
        """Whether it begins as a ZIP archive does."""
        return self.member.data.startswith(ZIP_MARK)

    @property
    def is_office(self) -> bool:
        """Whether it is a ZIP archive with an office document's parts (ECMA-376 part 2; OpenDocument 1.3 part 2)."""
        return "[Content_Types].xml" in self.entries or self.media_type.startswith(OPEN_DOCUMENT)


OPEN_DOCUMENT = b"application/vnd.oasis.opendocument."


@dataclass(frozen=True, slots=True)
class DocumentKind:
    """``is_one``: by content first, by name second. ``read``: loads its library only when it is called."""

    name: str
    is_one: Callable[[Look], bool]
    read: DocumentReader
