"""L2TP's headers (RFC 2661 §3.1): of control messages and of data messages."""

from __future__ import annotations

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.records import dataclass

CONTROL, LENGTH, SEQUENCE, OFFSET, VERSION = 0x8000, 0x4000, 0x0800, 0x0200, 2
MAX_CONTROL = 4096


@dataclass(frozen=True, slots=True)
class Header:
    """``numbers``: Ns and Nr, where there are any."""

    control: bool
    tunnel: int
    session: int
    numbers: tuple[int, int] | None


def read_message(data: bytes) -> tuple[Header, bytes]:
    """The header, and what follows. Raises :class:`Malformed`."""
    cursor = Cursor(data, "an L2TP message")
    flags = cursor.u16()
    if flags & 0xF != VERSION:
        raise cursor.fail(f"its version is {flags & 0xF}, not {VERSION}")
    control = bool(flags & CONTROL)
    if control and (not flags & LENGTH or not flags & SEQUENCE or flags & OFFSET):
        raise cursor.fail("a control message has a length and numbers, and no offset")
    length = cursor.u16() if flags & LENGTH else len(data)
    if length > len(data):
        raise cursor.fail(f"it announces {length} octets and has {len(data)}")
    tunnel, session = cursor.u16(), cursor.u16()
    numbers = (cursor.u16(), cursor.u16()) if flags & SEQUENCE else None
    if flags & OFFSET:
        cursor.take(cursor.u16())
    if cursor.position > length:
        raise cursor.fail(f"it announces {length} octets, which is less than its header")
    return Header(control, tunnel, session, numbers), data[cursor.position : length]


def write_control(tunnel: int, session: int, numbers: tuple[int, int], body: bytes) -> bytes:
    """A control message; without a body it only acknowledges (RFC 2661 §5.8)."""
    fields = (CONTROL | LENGTH | SEQUENCE | VERSION, 12 + len(body), tunnel, session, *numbers)
    return b"".join(field.to_bytes(2) for field in fields) + body


def data_prefix(tunnel: int, session: int) -> bytes:
    """Before each frame where there are no numbers."""
    return b"".join(field.to_bytes(2) for field in (VERSION, tunnel, session))


def write_data(tunnel: int, session: int, numbers: tuple[int, int], frame: bytes) -> bytes:
    """A data message with numbers (RFC 2661 §5.4)."""
    return b"".join(field.to_bytes(2) for field in (SEQUENCE | VERSION, tunnel, session, *numbers)) + frame
