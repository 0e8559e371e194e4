"""EAP packets (RFC 3748 §4)."""

from __future__ import annotations

from enum import IntEnum

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.records import dataclass


class EapCode(IntEnum):
    """RFC 3748 §4."""

    REQUEST = 1
    RESPONSE = 2
    SUCCESS = 3
    FAILURE = 4


class EapType(IntEnum):
    """RFC 3748 §5 and IANA's "EAP Registry"."""

    IDENTITY = 1
    NOTIFICATION = 2
    NAK = 3
    MD5_CHALLENGE = 4
    TLS = 13
    MSCHAPV2 = 26


@dataclass(frozen=True, slots=True)
class EapPacket:
    """``type`` is 0 and ``data`` empty in Success and Failure."""

    code: int
    identifier: int
    type: int = 0
    data: bytes = b""

    def octets(self) -> bytes:
        """The packet as it is in an EAP payload."""
        body = bytes([self.type]) + self.data if self.code in (EapCode.REQUEST, EapCode.RESPONSE) else b""
        return bytes([self.code, self.identifier]) + (4 + len(body)).to_bytes(2) + body


def parse_eap_untrusted(data: bytes) -> EapPacket:
    """A stranger's EAP packet; raises only ``Malformed``."""
    cursor = Cursor(data, "an EAP packet")
    code, identifier, length = cursor.u8(), cursor.u8(), cursor.u16()
    if length != len(data):
        raise cursor.fail(f"it announces {length} octets, {len(data)} came")
    if code not in EapCode._value2member_map_:
        raise cursor.fail(f"code {code} is not known")
    if code in (EapCode.SUCCESS, EapCode.FAILURE):
        cursor.finish()
        return EapPacket(code, identifier)
    return EapPacket(code, identifier, cursor.u8(), cursor.rest())
