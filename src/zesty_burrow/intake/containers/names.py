"""Names of files in archives: in whatever code page they were written, and what desktops leave behind."""

from __future__ import annotations

import re
import unicodedata
import zipfile

from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

UTF8_FLAG = 0x800
"""General purpose bit 11 of a ZIP entry: its name is UTF-8 (APPNOTE 4.4.4)."""
PAGES = ("cp850", "cp437", "cp1252")
"""What names are in where nothing says so: of western DOS, of the first PC, of western Windows."""
LITTER = re.compile(r"(?:^|/)(?:__MACOSX/|\._|\.DS_Store$|Thumbs\.db$|desktop\.ini$|~\$|\.~lock\.)", re.IGNORECASE)


def is_litter(path: str) -> bool:
    """Whether a file is what archivers and desktops leave beside the user's own files."""
    return LITTER.search(path) is not None


def zip_name(entry: zipfile.ZipInfo) -> str:
    """An entry's name: composed letters (NFC), by UTF-8 or the code page that makes most of it letters."""
    name = entry.filename
    if not entry.flag_bits & UTF8_FLAG and not name.isascii():
        octets = name.encode("cp437", "replace")
        try:
            name = octets.decode("utf-8")
        except UnicodeDecodeError:
            name = max((octets.decode(page, "replace") for page in PAGES), key=_letters)
    return composed(name)


def _letters(name: str) -> int:
    """Letters that western names have, less what such names never have."""
    return sum(
        1 if letter.isalpha() and unicodedata.name(letter, "").startswith("LATIN") else -1
        for letter in name
        if not letter.isascii()
    )


def composed(name: str) -> str:
    """A name with its accents on its letters (Unicode's NFC): some systems write them apart."""
    return unicodedata.normalize("NFC", name)


def check_name(archive: KitFile, name: str) -> None:
    """A member's name must stay inside: no way upward, no root, no drive, no other system's separators."""
    parts = name.split("/")
    if not name or name.startswith("/") or ".." in parts or "\\" in name or "\0" in name or ":" in parts[0]:
        raise refused("archive-path", archive.path, repr(name[:120]))
