"""STUN Binding (RFC 8489 §5, §14): what address the outside sees a UDP socket come from."""

from __future__ import annotations

import ipaddress
import zlib

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed

PORT = 3478
COOKIE = 0x2112A442
BINDING_REQUEST, BINDING_SUCCESS = 0x0001, 0x0101
XOR_MAPPED_ADDRESS, FINGERPRINT = 0x0020, 0x8028
FINGERPRINT_XOR = 0x5354554E
MAX_ATTRIBUTES = 32


def _message(kind: int, transaction: bytes, attributes: bytes) -> bytes:
    """A message that ends with FINGERPRINT (RFC 8489 §14.7)."""
    length = len(attributes) + 8
    head = kind.to_bytes(2) + length.to_bytes(2) + COOKIE.to_bytes(4) + transaction
    check = zlib.crc32(head + attributes) ^ FINGERPRINT_XOR
    return head + attributes + FINGERPRINT.to_bytes(2) + b"\0\x04" + check.to_bytes(4)


def _attribute(kind: int, value: bytes) -> bytes:
    return kind.to_bytes(2) + len(value).to_bytes(2) + value + bytes(-len(value) % 4)


def binding_request(random: Random) -> tuple[bytes, bytes]:
    """A Binding request and its 12-octet transaction identifier."""
    transaction = random(12)
    return _message(BINDING_REQUEST, transaction, b""), transaction


def _xor_address(packed: bytes, transaction: bytes) -> bytes:
    mask = COOKIE.to_bytes(4) + transaction
    return bytes(one ^ other for one, other in zip(packed, mask, strict=False))


def binding_response(request: bytes, source: Endpoint) -> bytes | None:
    """The answer to a stranger's Binding request; None for anything else."""
    try:
        kind, transaction, _ = _parse(request)
    except Malformed:
        return None
    if kind != BINDING_REQUEST:
        return None
    address = ipaddress.ip_address(source[0])
    address = getattr(address, "ipv4_mapped", None) or address
    family = 1 if address.version == 4 else 2
    port = source[1] ^ (COOKIE >> 16)
    value = bytes([0, family]) + port.to_bytes(2) + _xor_address(address.packed, transaction)
    return _message(BINDING_SUCCESS, transaction, _attribute(XOR_MAPPED_ADDRESS, value))


def read_response_untrusted(data: bytes, transaction: bytes) -> Endpoint:
    """The address and port in a Binding response; raises only :class:`Malformed`."""
    kind, identifier, attributes = _parse(data)
    if kind != BINDING_SUCCESS or identifier != transaction:
        raise Malformed("a STUN response was dropped", why="it does not answer our request")
    value = attributes.get(XOR_MAPPED_ADDRESS)
    if value is None:
        raise Malformed("a STUN response is incomplete", why="XOR-MAPPED-ADDRESS is missing (RFC 8489 §14.2)")
    cursor = Cursor(value, "XOR-MAPPED-ADDRESS")
    cursor.u8()
    size = {1: 4, 2: 16}.get(cursor.u8(), 0)
    port = cursor.u16() ^ (COOKIE >> 16)
    packed = cursor.rest()
    if not size or len(packed) != size:
        raise cursor.fail("the address family does not fit the address")
    return str(ipaddress.ip_address(_xor_address(packed, transaction))), port


def _parse(data: bytes) -> tuple[int, bytes, dict[int, bytes]]:
    cursor = Cursor(data, "a STUN message")
    kind, length, cookie = cursor.u16(), cursor.u16(), cursor.u32()
    transaction = cursor.take(12)
    if kind & 0xC000 or cookie != COOKIE or length != cursor.remaining or length % 4:
        raise cursor.fail("its header is not that of a STUN message (RFC 8489 §5)")
    attributes: dict[int, bytes] = {}
    for _ in range(MAX_ATTRIBUTES):
        if not cursor.remaining:
            return kind, transaction, attributes
        at = cursor.position
        attribute, size = cursor.u16(), cursor.u16()
        value = cursor.take(size)
        cursor.take(-size % 4)
        if attribute == FINGERPRINT and (
            len(value) != 4 or zlib.crc32(data[:at]) ^ FINGERPRINT_XOR != int.from_bytes(value)
        ):
            raise cursor.fail("its fingerprint does not hold")
        attributes.setdefault(attribute, value)
    raise cursor.fail(f"more than {MAX_ATTRIBUTES} attributes")
