"""QR codes (ISO/IEC 18004): texts from picture files, and texts into codes.

A text that is too long for one code is split. The standard's own way to split (structured append) is not used, since
readers seldom tell of it; each part begins with a line such as ``part 2 of 3 of 5f3a9c01`` instead, whose last word
is the same for all parts of one text.
"""

from __future__ import annotations

import hashlib
import io
import itertools
import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from zesty_burrow.errors import BurrowError, LimitExceeded, Malformed
from zesty_burrow.extras import extra
from zesty_burrow.records import dataclass

if TYPE_CHECKING:
    import segno

PICTURES = (b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff", b"GIF8", b"BM", b"RIFF", b"II*\0", b"MM\0*")
FORMATS = ("PNG", "JPEG", "GIF", "BMP", "WEBP", "TIFF")
MAX_PIXELS = 40_000_000
MAX_PAGES = 20
"""Of a TIFF file."""
SHOWN = 120
MAX_PARTS = 16
HEADER = re.compile(rb"part (\d{1,2}) of (\d{1,2}) of ([0-9a-f]{8})\n")
SCALE = 6
"""Pixels of a module in a picture."""
ONE_CODE = 1200
"""Octets that are put into one code: version 24 or less at level M, which a phone reads from a screen."""


@dataclass(frozen=True, slots=True)
class Symbol:
    """One code: its octets, and its place among those of one message (``size`` 1 where it is alone)."""

    data: bytes
    index: int = 0
    size: int = 1
    message: str = ""


def looks_like_picture(data: bytes) -> bool:
    """Whether octets are a picture of a kind that codes are read from."""
    return data.startswith(PICTURES) and (data[:4] != b"RIFF" or data[8:12] == b"WEBP")


def read_picture_untrusted(data: bytes, spend: Callable[[int], None] = lambda _pixels: None) -> list[Symbol]:
    """All QR codes in a stranger's picture, perhaps none. Raises only :class:`Malformed`.

    ``spend`` is told how many pixels are going to be looked at, before they are unpacked, and may raise.
    """
    with extra("codes"):
        import zxingcpp
        from PIL import Image, ImageSequence

    symbols: list[Symbol] = []
    try:
        with Image.open(io.BytesIO(data), formats=FORMATS) as picture:
            for page in itertools.islice(ImageSequence.Iterator(picture), MAX_PAGES if picture.format == "TIFF" else 1):
                pixels = page.width * page.height
                if pixels > MAX_PIXELS:
                    raise LimitExceeded("a picture is too large", why=f"{page.width} times {page.height} pixels")
                spend(pixels)
                grey = page.convert("L")
                one_kind = zxingcpp.BarcodeFormats([zxingcpp.BarcodeFormat.QRCode])
                symbols += [
                    _symbol(barcode.bytes)
                    for barcode in zxingcpp.read_barcodes(grey, formats=one_kind)
                    if barcode.valid
                ]
    except BurrowError:
        raise
    except Exception as problem:
        # Decoders of pictures meet damage with many kinds of errors.
        raise Malformed("a picture is damaged", why=f"{type(problem).__name__}: {problem}"[:200]) from None
    return symbols


_WORDS = "password|passwd|pass|pwd|pin|psk|secret|token|key|code|otp|auth|p|k"
_SECRET = re.compile(rf"((?<![a-z])(?:{_WORDS})\s*[=:]\s*)([^;&\s]+)", re.IGNORECASE)


def shown(data: bytes) -> str:
    """A code's text for a person to read: what follows a word for a secret, and a long row of letters, is masked."""
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        return f"{len(data)} octets that are no text"
    plain = _SECRET.sub(r"\1•••", " ".join(text.split()))
    plain = re.sub(r"[A-Za-z0-9+/_-]{24,}", "•••", plain)
    return plain if len(plain) <= SHOWN else f"{plain[:SHOWN]}… ({len(plain)} characters)"


def _symbol(data: bytes) -> Symbol:
    match = HEADER.match(data)
    if match is None:
        return Symbol(data)
    index, size = int(match.group(1)) - 1, int(match.group(2))
    if not (1 < size <= MAX_PARTS and 0 <= index < size):
        return Symbol(data)
    return Symbol(data[match.end() :], index, size, match.group(3).decode())


def join_symbols(symbols: list[Symbol]) -> tuple[list[bytes], list[str]]:
    """Whole texts, and for each message with missing parts a sentence that names them."""
    texts = [symbol.data for symbol in symbols if symbol.size == 1]
    groups: dict[tuple[str, int], dict[int, bytes]] = {}
    for symbol in symbols:
        if symbol.size > 1:
            groups.setdefault((symbol.message, symbol.size), {})[symbol.index] = symbol.data
    missing = []
    for (message, size), parts in groups.items():
        absent = [str(index + 1) for index in range(size) if index not in parts]
        if absent:
            missing.append(f"of {size} codes number {', '.join(absent)} is missing")
        else:
            whole = b"".join(parts[index] for index in range(size))
            if hashlib.sha256(whole).hexdigest()[:8] == message:
                texts.append(whole)
            else:
                missing.append("the codes are not parts of one text")
    return texts, missing


def make_codes(text: str) -> list[segno.QRCode]:
    """The text as one code, or as several. Raises :class:`LimitExceeded` if 16 are not enough."""
    with extra("codes"):
        import segno

    data = text.encode()
    count = -(-len(data) // ONE_CODE)
    if count > MAX_PARTS:
        raise LimitExceeded(
            "it does not fit into QR codes",
            why=f"{len(data)} octets; {MAX_PARTS} codes hold {MAX_PARTS * ONE_CODE}",
            next_step="Export it as a file, or take authorities and revocation lists out of it.",
            slug="code-too-large",
        )
    if count <= 1:
        return [segno.make_qr(data, error="m", mode="byte")]
    message = hashlib.sha256(data).hexdigest()[:8]
    share = -(-len(data) // count)
    parts = [data[at : at + share] for at in range(0, len(data), share)]
    heads = [f"part {index} of {len(parts)} of {message}\n".encode() for index in range(1, len(parts) + 1)]
    return [segno.make_qr(head + part, error="m", mode="byte") for head, part in zip(heads, parts, strict=True)]


def drawn(code: segno.QRCode) -> str:
    """A code for a terminal, in half blocks."""
    stream = io.StringIO()
    code.terminal(stream, compact=True, border=2)
    return stream.getvalue()


def picture_of(code: segno.QRCode, kind: str) -> bytes:
    """A code as a picture; ``kind``: ``png`` or ``svg``."""
    picture = io.BytesIO()
    code.save(picture, kind=kind, scale=SCALE, border=4, light="white")
    return picture.getvalue()
