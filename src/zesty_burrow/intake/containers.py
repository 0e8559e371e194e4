"""What carries files: ZIP, TAR, mails, and any of them, or a single file, under gzip or xz; nested in each other.

Every limit is checked before memory is spent; what one archive spends is gone for those inside it.
"""

from __future__ import annotations

import io
import lzma
import stat
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from zesty_burrow.errors import InputError
from zesty_burrow.intake import limits
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused
from zesty_burrow.intake.readers.mail import looks_like_mail, read_mail_untrusted

ZIP_MAGIC = (b"PK\x03\x04", b"PK\x05\x06")
GZIP_MAGIC, XZ_MAGIC = b"\x1f\x8b\x08", b"\xfd7zXZ\x00"
TAR_MAGIC, TAR_MAGIC_AT = b"ustar", 257
CHUNK = 1 << 16
ZIP_ERRORS = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, ValueError, RuntimeError)


@dataclass(slots=True)
class Budget:
    """What may still be unpacked from one outermost file."""

    subject: str
    octets: int
    members: int = limits.MAX_MEMBERS

    @classmethod
    def of(cls, member: KitFile) -> Budget:
        """What a file of this size may unpack to."""
        return cls(member.path, min(limits.MAX_TOTAL, (1 << 20) + limits.MAX_RATIO * len(member.data)))

    def spend(self, octets: int, what: str) -> None:
        """Take from the budget; an ``InputError`` where it is used up."""
        self.octets -= octets
        self.members -= 1
        if self.octets < 0:
            raise refused("archive-bomb", self.subject, f"{what} unpacks to more than its share")
        if self.members < 0:
            raise refused("archive-bomb", self.subject, f"more than {limits.MAX_MEMBERS} members")


@dataclass(frozen=True, slots=True)
class Expanded:
    """Plain files, and archives inside others that are damaged, each with what is wrong."""

    files: tuple[KitFile, ...]
    damaged: tuple[tuple[KitFile, InputError], ...] = ()


def expand(members: Iterable[KitFile]) -> Expanded:
    """Archives are replaced by what is in them.

    Raises ``InputError`` for hostile ones and for a damaged one that was named itself; one that is damaged inside
    another is reported, and the rest is read.
    """
    found: list[KitFile] = []
    damaged: list[tuple[KitFile, InputError]] = []
    for member in members:
        found += _expand(member, Budget.of(member), 0, damaged)
        if len(found) > limits.MAX_MEMBERS:
            raise refused("archive-bomb", member.path, f"more than {limits.MAX_MEMBERS} files")
    return Expanded(tuple(found), tuple(damaged))


def _expand(
    member: KitFile, budget: Budget, depth: int, damaged: list[tuple[KitFile, InputError]]
) -> Iterator[KitFile]:
    reader = reader_for(member.data)
    if reader is None:
        yield member
        return
    if depth >= limits.MAX_DEPTH:
        raise refused("archive-bomb", budget.subject, f"archives nested more than {limits.MAX_DEPTH} deep")
    try:
        unpacked = reader(member, budget)
    except InputError as problem:
        if depth == 0 or problem.slug != "archive-damaged":
            raise
        damaged.append((member, problem))
        return
    for inner in unpacked:
        yield from _expand(inner, budget, depth + 1, damaged)


Reader = Callable[[KitFile, Budget], list[KitFile]]


def reader_for(data: bytes) -> Reader | None:
    """The reader for an archive, by its first octets; None for a plain file."""
    if data.startswith(ZIP_MAGIC):
        return read_zip_untrusted
    if data.startswith(GZIP_MAGIC):
        return read_gzip_untrusted
    if data.startswith(XZ_MAGIC):
        return read_xz_untrusted
    if data[TAR_MAGIC_AT : TAR_MAGIC_AT + len(TAR_MAGIC)] == TAR_MAGIC:
        return read_tar_untrusted
    if looks_like_mail(data):
        return _read_mail
    return None


def _read_mail(mail: KitFile, budget: Budget) -> list[KitFile]:
    found = read_mail_untrusted(mail)
    for member in found:
        budget.spend(len(member.data), member.name)
    return found


def check_name(archive: KitFile, name: str) -> None:
    """A member's name must stay inside: no way upward, no root, no drive, no other system's separators."""
    parts = name.split("/")
    if not name or name.startswith("/") or ".." in parts or "\\" in name or "\0" in name or ":" in parts[0]:
        raise refused("archive-path", archive.path, repr(name[:120]))


def read_zip_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The files in a stranger's ZIP archive."""
    spending = budget or Budget.of(archive)
    try:
        with zipfile.ZipFile(io.BytesIO(archive.data)) as opened:
            entries = opened.infolist()
            _check_zip(archive, entries, spending)
            return [_read_zip_entry(archive, opened, entry) for entry in entries if not entry.is_dir()]
    except ZIP_ERRORS as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None


def _check_zip(archive: KitFile, entries: list[zipfile.ZipInfo], budget: Budget) -> None:
    seen: set[str] = set()
    for entry in entries:
        name = entry.filename
        check_name(archive, name)
        if stat.S_IFMT(entry.external_attr >> 16) not in (0, stat.S_IFREG, stat.S_IFDIR):
            raise refused("archive-link", archive.path, repr(name[:120]))
        if name in seen:
            raise refused("archive-duplicate", archive.path, repr(name[:120]))
        if entry.flag_bits & 1:
            raise refused("archive-encrypted", archive.path, repr(name[:120]))
        seen.add(name)
        if entry.file_size > limits.MAX_MEMBER:
            raise refused("archive-bomb", archive.path, f"{name[:120]!r} unpacks to {entry.file_size} octets")
        budget.spend(entry.file_size, repr(name[:120]))


def _read_zip_entry(archive: KitFile, opened: zipfile.ZipFile, entry: zipfile.ZipInfo) -> KitFile:
    with opened.open(entry) as stream:
        # The announced size is the sender's word; read no more than that, and one octet to catch a lie.
        data = stream.read(entry.file_size + 1)
    if len(data) > entry.file_size:
        raise refused("archive-bomb", archive.path, f"{entry.filename[:120]!r} is larger than it announces")
    return archive.inside(entry.filename, data)


def read_tar_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The files in a stranger's TAR archive (POSIX.1-2001 pax, GNU and older ustar forms)."""
    spending = budget or Budget.of(archive)
    found: dict[str, KitFile] = {}
    try:
        with tarfile.open(fileobj=io.BytesIO(archive.data), mode="r:") as opened:
            for entry in opened:
                name = entry.name.removeprefix("./")
                if entry.isdir():
                    spending.spend(0, "a folder")
                    continue
                check_name(archive, name)
                if not entry.isreg():
                    raise refused("archive-link", archive.path, repr(name[:120]))
                if name in found:
                    raise refused("archive-duplicate", archive.path, repr(name[:120]))
                if entry.size > limits.MAX_MEMBER:
                    raise refused("archive-bomb", archive.path, f"{name[:120]!r} unpacks to {entry.size} octets")
                spending.spend(entry.size, repr(name[:120]))
                stream = opened.extractfile(entry)
                data = stream.read(entry.size) if stream else b""
                if len(data) != entry.size:
                    raise refused("archive-damaged", archive.path, f"{name[:120]!r} is cut off")
                found[name] = archive.inside(name, data)
    except InputError:
        raise
    except (tarfile.TarError, OSError, ValueError, EOFError, OverflowError, RecursionError) as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None
    return list(found.values())


class _Gunzip:
    """zlib's decompressor for gzip, with the calls of ``lzma``'s."""

    def __init__(self) -> None:
        self._inner = zlib.decompressobj(wbits=31)

    def decompress(self, data: bytes, size: int) -> bytes:
        """At most ``size`` octets."""
        return self._inner.decompress(self._inner.unconsumed_tail + data, size)

    @property
    def eof(self) -> bool:
        """Whether the stream has ended."""
        return self._inner.eof

    @property
    def needs_input(self) -> bool:
        """Whether nothing is held back."""
        return not self._inner.unconsumed_tail


def read_gzip_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The one file under gzip (RFC 1952)."""
    return _decompress(archive, budget or Budget.of(archive), _Gunzip(), (".gz", ".tgz"))


def read_xz_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The one file under xz."""
    machine = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=limits.MAX_LZMA_MEMORY)
    return _decompress(archive, budget or Budget.of(archive), machine, (".xz", ".txz"))


def _decompress(
    archive: KitFile, budget: Budget, machine: _Gunzip | lzma.LZMADecompressor, endings: tuple[str, str]
) -> list[KitFile]:
    parts: list[bytes] = []
    at = total = 0
    try:
        while not machine.eof:
            chunk = archive.data[at : at + CHUNK] if machine.needs_input else b""
            at += len(chunk)
            if machine.needs_input and not chunk:
                raise refused("archive-damaged", archive.path, "it is cut off")
            part = machine.decompress(chunk, CHUNK)
            total += len(part)
            if total > budget.octets:
                raise refused("archive-bomb", budget.subject, f"{archive.name[:80]!r} unpacks to more than its share")
            parts.append(part)
    except (zlib.error, lzma.LZMAError, EOFError) as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None
    budget.spend(total, repr(archive.name[:80]))
    plain, packed_archive = endings
    name = archive.name
    if name.lower().endswith(packed_archive):
        name = name[: -len(packed_archive)] + ".tar"
    elif name.lower().endswith(plain):
        name = name[: -len(plain)]
    return [archive.inside(name, b"".join(parts))]
