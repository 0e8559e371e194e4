"""Identification payloads (RFC 2407 §4.6.2), notifications (RFC 2408 §3.14) and what else is small."""

from __future__ import annotations

import hashlib
from ipaddress import ip_address

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.identity import Identity, IdType
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ISAKMP
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import Kind, Payload
from zesty_burrow.protocols.l2tp_ipsec.ikev1.proposals import IPSEC_DOI

NAT_TRAVERSAL = hashlib.md5(b"RFC 3947", usedforsecurity=False).digest()
"""Vendor ID (RFC 3947 §3.1)."""
DEAD_PEER_DETECTION = bytes.fromhex("afcad71368a1f1c96b8696fc77570100")
"""Vendor ID (RFC 3706 §5.1)."""
INITIAL_CONTACT = 24578
ARE_YOU_THERE, I_AM_HERE = 36136, 36137
"""RFC 2407 §4.6.3.3, RFC 3706 §5.2."""
ERRORS = {
    7: "INVALID-EXCHANGE-TYPE",
    14: "NO-PROPOSAL-CHOSEN",
    16: "PAYLOAD-MALFORMED",
    18: "INVALID-ID-INFORMATION",
    20: "INVALID-CERTIFICATE",
    23: "INVALID-HASH-INFORMATION",
    24: "AUTHENTICATION-FAILED",
    25: "INVALID-SIGNATURE",
    30: "UNEQUAL-PAYLOAD-LENGTHS",
}
"""RFC 2408 §3.14.1, those that gateways send in place of an answer."""
NO_PROPOSAL = 14
LAST_ERROR = 8191


def identification(identity: Identity, protocol: int = 0, port: int = 0) -> bytes:
    """The body of the payload."""
    return bytes((identity.type, protocol)) + port.to_bytes(2) + identity.octets()


def original_address(address: Identity) -> Payload:
    """NAT-OA (RFC 3947 §5.2)."""
    return Payload(Kind.NAT_ORIGINAL_ADDRESS, bytes((address.type, 0, 0, 0)) + address.octets())


def address_identity(address: str) -> Identity:
    """An address as an identity, without its zone."""
    return Identity.of(str(ip_address(address.partition("%")[0])))


def selected(body: bytes) -> tuple[int, int]:
    """Protocol and port of a client's identification in quick mode. Raises :class:`Malformed`."""
    cursor = Cursor(body, "an identification payload")
    kind, protocol, port = cursor.u8(), cursor.u8(), cursor.u16()
    sizes = {IdType.ID_IPV4_ADDR: 4, IdType.ID_IPV6_ADDR: 16}
    if kind in sizes and cursor.remaining != sizes[IdType(kind)]:
        raise cursor.fail("it has an address of another length")
    return protocol, port


def notification(kind: int, cookies: tuple[bytes, bytes], data: bytes = b"") -> Payload:
    """About the ISAKMP SA with these cookies."""
    spi = cookies[0] + cookies[1]
    body = IPSEC_DOI.to_bytes(4) + bytes((ISAKMP, len(spi))) + kind.to_bytes(2) + spi + data
    return Payload(Kind.NOTIFICATION, body)


def read_notification(body: bytes) -> tuple[int, bytes]:
    """Its type and data. Raises :class:`Malformed`."""
    cursor = Cursor(body, "a notification payload")
    cursor.u32()
    _, size, kind = cursor.u8(), cursor.u8(), cursor.u16()
    cursor.take(size)
    return kind, cursor.rest()


def deletion(protocol: int, spis: list[bytes]) -> Payload:
    """RFC 2408 §3.15."""
    body = IPSEC_DOI.to_bytes(4) + bytes((protocol, len(spis[0]))) + len(spis).to_bytes(2) + b"".join(spis)
    return Payload(Kind.DELETE, body)


def read_deletion(body: bytes) -> tuple[int, list[bytes]]:
    """The protocol, and SPIs. Raises :class:`Malformed`."""
    cursor = Cursor(body, "a deletion payload")
    cursor.u32()
    protocol, size, count = cursor.u8(), cursor.u8(), cursor.u16()
    if size * count != cursor.remaining or not size:
        raise cursor.fail(f"it announces {count} SPIs of {size} octets, and has {cursor.remaining} octets")
    return protocol, [cursor.take(size) for _ in range(count)]


def nat_discovery(hashed: bytes) -> Payload:
    """RFC 3947 §3.2."""
    return Payload(Kind.NAT_DISCOVERY, hashed)


def place_of(address: str, port: int) -> bytes:
    """What is hashed of an endpoint."""
    return ip_address(address.partition("%")[0]).packed + port.to_bytes(2)


def refuse_error(kind: int) -> str:
    """The name of an error notification; empty for another notification."""
    return ERRORS.get(kind, f"error {kind}") if 0 < kind <= LAST_ERROR else ""
