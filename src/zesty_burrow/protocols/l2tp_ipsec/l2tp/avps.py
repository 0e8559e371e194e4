"""Attribute value pairs of L2TP's control messages (RFC 2661 §4)."""

from __future__ import annotations

from collections.abc import Mapping
from enum import IntEnum

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import Malformed

MANDATORY, HIDDEN = 0x8000, 0x4000
MAX_AVPS = 64


class Message(IntEnum):
    """Message types (RFC 2661 §3.2)."""

    SCCRQ = 1
    SCCRP = 2
    SCCCN = 3
    STOP_CCN = 4
    HELLO = 6
    ICRQ = 10
    ICRP = 11
    ICCN = 12
    CDN = 14
    WEN = 15
    SLI = 16


class Avp(IntEnum):
    """Attribute types (RFC 2661 §4.4)."""

    MESSAGE_TYPE = 0
    RESULT_CODE = 1
    PROTOCOL_VERSION = 2
    FRAMING_CAPABILITIES = 3
    BEARER_CAPABILITIES = 4
    TIE_BREAKER = 5
    FIRMWARE_REVISION = 6
    HOST_NAME = 7
    VENDOR_NAME = 8
    ASSIGNED_TUNNEL = 9
    RECEIVE_WINDOW = 10
    CHALLENGE = 11
    CHALLENGE_RESPONSE = 13
    ASSIGNED_SESSION = 14
    CALL_SERIAL = 15
    BEARER_TYPE = 18
    FRAMING_TYPE = 19
    TX_SPEED = 24
    SEQUENCING_REQUIRED = 39


_SIZES = {
    Avp.MESSAGE_TYPE: 2,
    Avp.PROTOCOL_VERSION: 2,
    Avp.ASSIGNED_TUNNEL: 2,
    Avp.RECEIVE_WINDOW: 2,
    Avp.ASSIGNED_SESSION: 2,
}
KNOWN = frozenset(range(40))
"""Types that RFC 2661 has; what is not used here is passed over."""
MESSAGES = {
    1: "it was asked to",
    2: "an error",
    3: "there is one already",
    4: "no access",
    5: "another version is needed",
    6: "it is being shut down",
    7: "a state that should not be",
}
"""Result codes of StopCCN (RFC 2661 §4.4.2)."""
CALLS = {
    1: "the carrier was lost",
    2: "an error",
    3: "it was asked to",
    4: "nothing is free at the moment",
    5: "nothing is free at all",
    6: "no such place",
    7: "no carrier",
    8: "busy",
    9: "no tone",
    10: "time ran out",
    11: "no framing",
}
"""Result codes of CDN."""


def read_avps(body: bytes) -> dict[int, bytes]:
    """Values by type, the first of each. Raises :class:`Malformed`, also for what is mandatory and not known."""
    cursor = Cursor(body, "an L2TP control message")
    found: dict[int, bytes] = {}
    count = 0
    while cursor.remaining:
        count += 1
        if count > MAX_AVPS:
            raise cursor.fail(f"it has more than {MAX_AVPS} attributes")
        flags, vendor, kind = cursor.u16(), cursor.u16(), cursor.u16()
        length = flags & 0x3FF
        if length < 6:
            raise cursor.fail(f"an attribute announces {length} octets")
        value = cursor.take(length - 6)
        if vendor or flags & HIDDEN or kind not in KNOWN:
            if flags & MANDATORY:
                # RFC 2661 §4.1: then tunnel or session have to be ended.
                raise cursor.fail(f"attribute {vendor}/{kind} is mandatory and cannot be read here")
            continue
        if kind in _SIZES and len(value) != _SIZES[Avp(kind)]:
            raise cursor.fail(f"attribute {Avp(kind).name} has {len(value)} octets")
        found.setdefault(kind, value)
    return found


def message_of(avps: Mapping[int, bytes]) -> int:
    """The message's type. Raises :class:`Malformed` if it is missing."""
    value = avps.get(Avp.MESSAGE_TYPE)
    if value is None:
        raise Malformed("an L2TP control message is malformed", why="it does not say of which type it is")
    return int.from_bytes(value)


def number_of(avps: Mapping[int, bytes], kind: Avp) -> int:
    """A number that has to be there. Raises :class:`Malformed`."""
    if kind not in avps:
        raise Malformed("an L2TP control message is malformed", why=f"it lacks {kind.name}")
    return int.from_bytes(avps[kind])


def write_avps(message: Message, values: Mapping[Avp, bytes]) -> bytes:
    """The message's type and other attributes, which the peer has to understand."""
    rows = {Avp.MESSAGE_TYPE: int(message).to_bytes(2), **values}
    return b"".join(
        (MANDATORY | 6 + len(value)).to_bytes(2) + bytes(2) + int(kind).to_bytes(2) + value
        for kind, value in rows.items()
    )


def result_words(value: bytes, table: Mapping[int, str]) -> str:
    """RFC 2661 §4.4.2: a code, perhaps an error code, and words of the peer's own."""
    code = int.from_bytes(value[:2])
    words = value[4:].decode("utf-8", "replace")[:200]
    said = table.get(code, f"result {code}")
    return f"{said} ({words})" if words.strip() and words.isprintable() else said
