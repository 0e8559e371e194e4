"""Frames and control packets of PPP (RFC 1661 §2, §5, §6), as L2TP and PPTP carry them: without flags and checksum."""

from __future__ import annotations

from collections.abc import Sequence
from enum import IntEnum
from typing import NamedTuple

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import Malformed

ADDRESS_CONTROL = b"\xff\x03"
MAX_OPTIONS = 64


class Number(IntEnum):
    """Protocol numbers (IANA, PPP DLL protocol numbers)."""

    IPV4 = 0x0021
    IPV6 = 0x0057
    COMPRESSED = 0x00FD
    IPCP = 0x8021
    IPV6CP = 0x8057
    CCP = 0x80FD
    LCP = 0xC021
    PAP = 0xC023
    CHAP = 0xC223


class Code(IntEnum):
    """Codes of control packets (RFC 1661 §5, RFC 1962 §5)."""

    CONFIGURE_REQUEST = 1
    CONFIGURE_ACK = 2
    CONFIGURE_NAK = 3
    CONFIGURE_REJECT = 4
    TERMINATE_REQUEST = 5
    TERMINATE_ACK = 6
    CODE_REJECT = 7
    PROTOCOL_REJECT = 8
    ECHO_REQUEST = 9
    ECHO_REPLY = 10
    DISCARD_REQUEST = 11
    RESET_REQUEST = 14
    RESET_ACK = 15


class Option(NamedTuple):
    """A type, and the value behind it."""

    kind: int
    value: bytes


class Packet(NamedTuple):
    code: int
    identifier: int
    data: bytes


def read_frame(frame: bytes) -> tuple[int, bytes]:
    """The protocol's number and its content; address, control and number may be shortened (RFC 1661 §6.5, §6.6).

    Raises :class:`Malformed`.
    """
    at = 2 if frame[:2] == ADDRESS_CONTROL else 0
    if len(frame) > at and frame[at] & 1:
        return frame[at], frame[at + 1 :]
    if len(frame) < at + 2:
        raise Malformed("a PPP frame is malformed", why=f"it has {len(frame)} octets")
    return int.from_bytes(frame[at : at + 2]), frame[at + 2 :]


def write_frame(number: int, content: bytes) -> bytes:
    """With everything in front."""
    return ADDRESS_CONTROL + number.to_bytes(2) + content


def read_packet(content: bytes) -> Packet:
    """A control packet; what is behind it is padding. Raises :class:`Malformed`."""
    cursor = Cursor(content, "a PPP control packet")
    code, identifier, length = cursor.u8(), cursor.u8(), cursor.u16()
    if length < 4 or length > len(content):
        raise cursor.fail(f"it announces {length} octets and has {len(content)}")
    return Packet(code, identifier, content[4:length])


def write_packet(code: int, identifier: int, data: bytes) -> bytes:
    return bytes((code, identifier)) + (len(data) + 4).to_bytes(2) + data


def read_options(data: bytes) -> list[Option]:
    """RFC 1661 §6. Raises :class:`Malformed`."""
    cursor = Cursor(data, "PPP options")
    options: list[Option] = []
    while cursor.remaining:
        kind, length = cursor.u8(), cursor.u8()
        if length < 2 or len(options) >= MAX_OPTIONS:
            raise cursor.fail(f"an option announces {length} octets")
        options.append(Option(kind, cursor.take(length - 2)))
    return options


def write_options(options: Sequence[Option]) -> bytes:
    """RFC 1661 §6."""
    return b"".join(bytes((option.kind, len(option.value) + 2)) + option.value for option in options)
