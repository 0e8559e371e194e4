"""One file under gzip (RFC 1952) or xz, unpacked within a budget."""

from __future__ import annotations

import lzma
import zlib

from zesty_burrow.intake import limits
from zesty_burrow.intake.containers.budget import Budget
from zesty_burrow.intake.kit_file import KitFile
from zesty_burrow.intake.limits import refused

GZIP_MAGIC, XZ_MAGIC = b"\x1f\x8b\x08", b"\xfd7zXZ\x00"
CHUNK = 1 << 16


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
