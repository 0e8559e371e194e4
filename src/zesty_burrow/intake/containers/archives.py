"""The files in ZIP and TAR archives. Every limit is checked before memory is spent."""

from __future__ import annotations

import io
import stat
import tarfile
import zipfile
import zlib
from collections import Counter

from zesty_burrow.errors import InputError
from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.budget import Budget, Left
from zesty_burrow.intake.containers.names import check_name, composed, zip_name
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

ZIP_MAGIC = (b"PK\x03\x04", b"PK\x05\x06")
TAR_MAGIC, TAR_MAGIC_AT = b"ustar", 257
ENCRYPTED = 1
"""General purpose bit 0 of a ZIP entry."""
ZIP_ERRORS = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, ValueError, RuntimeError)


def read_zip_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The files in a stranger's ZIP archive; what no passphrase opens is left out."""
    spending = budget or Budget.of(archive)
    try:
        with zipfile.ZipFile(io.BytesIO(archive.data)) as opened:
            entries = _checked(archive, opened.infolist(), spending)
            plain = {name: one for name, one in entries.items() if not one.flag_bits & ENCRYPTED}
            found = [_read_zip_entry(archive, opened, name, entry) for name, entry in plain.items()]
    except ZIP_ERRORS as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None
    return [*found, *_read_encrypted(archive, entries, spending)] if len(plain) < len(entries) else found


def _checked(archive: KitFile, entries: list[zipfile.ZipInfo], budget: Budget) -> dict[str, zipfile.ZipInfo]:
    """Those that are files, by their names."""
    found: dict[str, zipfile.ZipInfo] = {}
    same = Counter(zip_name(entry) for entry in entries)
    for entry in entries:
        name = zip_name(entry)
        # Two that differ in how their accents are written, or in a code page, are both there.
        name = name if same[name] == 1 else entry.filename
        check_name(archive, name)
        if stat.S_IFMT(entry.external_attr >> 16) not in (0, stat.S_IFREG, stat.S_IFDIR):
            raise refused("archive-link", archive.path, repr(name[:120]))
        if name in found:
            raise refused("archive-duplicate", archive.path, repr(name[:120]))
        if entry.file_size > limits.MAX_MEMBER:
            raise refused("archive-bomb", archive.path, f"{name[:120]!r} unpacks to {entry.file_size} octets")
        budget.spend(entry.file_size, repr(name[:120]))
        if not entry.is_dir():
            found[name] = entry
    return found


def _read_zip_entry(
    archive: KitFile, opened: zipfile.ZipFile, name: str, entry: zipfile.ZipInfo, passphrase: bytes | None = None
) -> KitFile:
    with opened.open(entry, pwd=passphrase) as stream:
        # The announced size is the sender's word; read no more than that, and one octet to catch a lie.
        data = stream.read(entry.file_size + 1)
    if len(data) > entry.file_size:
        raise refused("archive-bomb", archive.path, f"{name[:120]!r} is larger than it announces")
    return archive.inside(name, data)


def _read_encrypted(archive: KitFile, entries: dict[str, zipfile.ZipInfo], budget: Budget) -> list[KitFile]:
    """What passphrases open, in the old way (APPNOTE 6.1) or under AES (its extra field 0x9901)."""
    import pyzipper

    files: list[KitFile] = []
    try:
        with pyzipper.AESZipFile(io.BytesIO(archive.data)) as opened:
            # Its own description of an entry has what is needed to open it.
            for name, own in zip(entries, (one for one in opened.infolist() if not one.is_dir()), strict=True):
                if own.flag_bits & ENCRYPTED:
                    files += _try(archive, opened, name, own, budget, pyzipper.BadZipFile)
    except (*ZIP_ERRORS, pyzipper.BadZipFile) as problem:
        raise refused("archive-damaged", archive.path, str(problem)[:200]) from None
    return files


def _try(
    archive: KitFile,
    opened: zipfile.ZipFile,
    name: str,
    entry: zipfile.ZipInfo,
    budget: Budget,
    damaged: type[Exception],
) -> list[KitFile]:
    tried = 0
    for passphrase in budget.passphrases.candidates(archive.path):
        tried += 1
        try:
            found = _read_zip_entry(archive, opened, name, entry, passphrase.encode())
        except (RuntimeError, damaged, zipfile.BadZipFile, zlib.error, EOFError):
            # One octet of the old way's check fits by chance once in 256 times: then the content is not right.
            continue
        budget.passphrases.opened_by(passphrase)
        return [found]
    words = {0: "no passphrase is given", 1: "the passphrase does not open it"}
    why = words.get(tried, f"none of {tried} passphrases opens it")
    budget.left.append(Left(archive.inside(name, b""), "archive-encrypted", why))
    return []


def read_tar_untrusted(archive: KitFile, budget: Budget | None = None) -> list[KitFile]:
    """The files in a stranger's TAR archive (POSIX.1-2001 pax, GNU and older ustar forms)."""
    spending = budget or Budget.of(archive)
    found: dict[str, KitFile] = {}
    try:
        with tarfile.open(fileobj=io.BytesIO(archive.data), mode="r:") as opened:
            for entry in opened:
                name = composed(entry.name.removeprefix("./"))
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
