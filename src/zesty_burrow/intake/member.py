"""Files of a kit, and the archives that carry them."""

from __future__ import annotations

import io
import posixpath
import stat
import zipfile
import zlib
from collections.abc import Iterable
from dataclasses import dataclass, field

from zesty_burrow.errors import printable
from zesty_burrow.intake import limits
from zesty_burrow.intake.limits import refused

ZIP_MAGIC = (b"PK\x03\x04", b"PK\x05\x06")


@dataclass(frozen=True, slots=True)
class Member:
    """One file: its path within the kit, its octets, and its mode where the file system gave one."""

    path: str
    data: bytes = field(repr=False)
    mode: int | None = None

    @property
    def name(self) -> str:
        """The last part of the path."""
        return posixpath.basename(self.path)

    @property
    def folder(self) -> str:
        """The path without its last part."""
        return posixpath.dirname(self.path)


def expand(members: Iterable[Member]) -> list[Member]:
    """Plain files: archives are replaced by what is in them. Raises ``InputError`` for hostile or damaged ones."""
    found: list[Member] = []
    for member in members:
        if member.data.startswith(ZIP_MAGIC):
            found += read_zip_untrusted(member)
        else:
            found.append(member)
        if len(found) > limits.MAX_MEMBERS:
            raise refused("archive-bomb", member.path, f"more than {limits.MAX_MEMBERS} files")
    return found


def read_zip_untrusted(archive: Member) -> list[Member]:
    """The files in a stranger's ZIP archive; every limit is checked before memory is spent."""
    try:
        with zipfile.ZipFile(io.BytesIO(archive.data)) as opened:
            entries = opened.infolist()
            _check_entries(archive, entries)
            return [_read_entry(archive, opened, entry) for entry in entries if not entry.is_dir()]
    except (
        zipfile.BadZipFile,
        zlib.error,
        EOFError,
        OSError,
        NotImplementedError,
        ValueError,
        RuntimeError,
    ) as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None


def _check_entries(archive: Member, entries: list[zipfile.ZipInfo]) -> None:
    if len(entries) > limits.MAX_MEMBERS:
        raise refused("archive-bomb", archive.path, f"{len(entries)} members")
    seen: set[str] = set()
    total = 0
    for entry in entries:
        name = entry.filename
        parts = name.split("/")
        outside = name.startswith("/") or ".." in parts or "\\" in name or "\0" in name or ":" in parts[0]
        if outside:
            raise refused("archive-path", archive.path, repr(name[:120]))
        kind = stat.S_IFMT(entry.external_attr >> 16)
        if kind not in (0, stat.S_IFREG, stat.S_IFDIR):
            raise refused("archive-link", archive.path, repr(name[:120]))
        if name in seen:
            raise refused("archive-duplicate", archive.path, repr(name[:120]))
        if entry.flag_bits & 1:
            raise refused("archive-encrypted", archive.path, repr(name[:120]))
        seen.add(name)
        total += entry.file_size
        if entry.file_size > limits.MAX_MEMBER:
            raise refused("archive-bomb", archive.path, f"{name[:120]!r} unpacks to {entry.file_size} octets")
    if total > limits.MAX_TOTAL or total - (1 << 20) > limits.MAX_RATIO * len(archive.data):
        raise refused("archive-bomb", archive.path, f"{len(archive.data)} octets unpack to {total}")


def _read_entry(archive: Member, opened: zipfile.ZipFile, entry: zipfile.ZipInfo) -> Member:
    with opened.open(entry) as stream:
        # The announced size is the sender's word; read no more than that, and one octet to catch a lie.
        data = stream.read(entry.file_size + 1)
    if len(data) > entry.file_size:
        raise refused("archive-bomb", archive.path, f"{entry.filename[:120]!r} is larger than it announces")
    return Member(printable(f"{archive.path}/{entry.filename}"), data, archive.mode)
