"""STUN Binding (RFC 8489 §5, §14): what address the outside sees a UDP socket come from.

With a short-term credential (§9.1) both messages are protected by MESSAGE-INTEGRITY-SHA256 (§14.6): nobody on the way
can answer instead, or change the address. With PADDING (RFC 5780 §7.6) they show which sizes a path carries.
"""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import zlib
from collections.abc import Callable
from typing import NamedTuple

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import Malformed

PORT = 3478
COOKIE = 0x2112A442
BINDING_REQUEST, BINDING_SUCCESS = 0x0001, 0x0101
XOR_MAPPED_ADDRESS, FINGERPRINT = 0x0020, 0x8028
USERNAME, INTEGRITY_SHA256 = 0x0006, 0x001C
PADDING = 0x0026
FINGERPRINT_XOR = 0x5354554E
MAX_ATTRIBUTES = 32
LONGEST_USERNAME = 508


class Credential(NamedTuple):
    """Of one look, told by a channel that is proven (RFC 8489 §9.1)."""

    username: str
    password: str


def _message(kind: int, transaction: bytes, attributes: bytes, password: str = "") -> bytes:
    """A message that ends with FINGERPRINT (RFC 8489 §14.7), with a password before it the proof of whose it is."""
    if password:
        attributes += _attribute(INTEGRITY_SHA256, _integrity(kind, transaction, attributes, password.encode()))
    length = len(attributes) + 8
    head = kind.to_bytes(2) + length.to_bytes(2) + COOKIE.to_bytes(4) + transaction
    check = zlib.crc32(head + attributes) ^ FINGERPRINT_XOR
    return head + attributes + FINGERPRINT.to_bytes(2) + b"\0\x04" + check.to_bytes(4)


def _integrity(kind: int, transaction: bytes, attributes: bytes, key: bytes) -> bytes:
    """HMAC-SHA256 of all before it, with the length as if it were the last attribute (RFC 8489 §14.6)."""
    head = kind.to_bytes(2) + (len(attributes) + 36).to_bytes(2) + COOKIE.to_bytes(4) + transaction
    return hmac.digest(key, head + attributes, hashlib.sha256)


def _attribute(kind: int, value: bytes) -> bytes:
    return kind.to_bytes(2) + len(value).to_bytes(2) + value + bytes(-len(value) % 4)


def binding_request(random: Random, credential: Credential | None = None, octets: int = 0) -> tuple[bytes, bytes]:
    """A Binding request and its 12-octet transaction identifier. ``octets``: what the message is padded to, if it is
    shorter: a multiple of four.
    """
    transaction = random(12)
    named = _attribute(USERNAME, credential.username.encode()) if credential is not None else b""
    password = credential.password if credential is not None else ""
    return _padded(BINDING_REQUEST, transaction, named, password, octets), transaction


def _padded(kind: int, transaction: bytes, attributes: bytes, password: str, octets: int) -> bytes:
    message = _message(kind, transaction, attributes, password)
    missing = octets - len(message) - 4
    if missing < 0:
        return message
    return _message(kind, transaction, attributes + _attribute(PADDING, bytes(missing)), password)


def _xor_address(packed: bytes, transaction: bytes) -> bytes:
    mask = COOKIE.to_bytes(4) + transaction
    return bytes(one ^ other for one, other in zip(packed, mask, strict=False))


def binding_response(
    request: bytes, source: Endpoint, password_of: Callable[[str], str] = lambda _: ""
) -> bytes | None:
    """The answer to a stranger's Binding request; None for anything else, and for one whose proof does not hold.

    ``password_of``: of a username, empty for one that is not known. Who proves that they know it and pads the request
    has an answer of the same size, never a longer one (RFC 5780 §7.6, RFC 8085 §6).
    """
    try:
        kind, transaction, attributes = _parse(request)
        username = attributes.get(USERNAME, b"")[:LONGEST_USERNAME].decode("utf-8", "replace")
        password = password_of(username) if username else ""
        if INTEGRITY_SHA256 in attributes and not (password and is_authentic(request, password.encode())):
            return None
    except Malformed:
        return None
    if kind != BINDING_REQUEST:
        return None
    address = ipaddress.ip_address(source[0])
    address = getattr(address, "ipv4_mapped", None) or address
    family = 1 if address.version == 4 else 2
    port = source[1] ^ (COOKIE >> 16)
    value = bytes([0, family]) + port.to_bytes(2) + _xor_address(address.packed, transaction)
    proof = password if INTEGRITY_SHA256 in attributes else ""
    octets = len(request) if proof and PADDING in attributes else 0
    return _padded(BINDING_SUCCESS, transaction, _attribute(XOR_MAPPED_ADDRESS, value), proof, octets)


def is_authentic(data: bytes, key: bytes) -> bool:
    """Whether a message has an integrity attribute of this key (RFC 8489 §9.1.3). Raises :class:`Malformed`."""
    _parse(data)
    at = 20
    while at + 4 <= len(data):
        kind, size = int.from_bytes(data[at : at + 2]), int.from_bytes(data[at + 2 : at + 4])
        if kind == INTEGRITY_SHA256:
            wanted = _integrity(int.from_bytes(data[:2]), data[8:20], data[20:at], key)
            return size == len(wanted) and hmac.compare_digest(data[at + 4 : at + 4 + size], wanted)
        at += 4 + size + -size % 4
    return False


def read_response_untrusted(data: bytes, transaction: bytes, credential: Credential | None = None) -> Endpoint:
    """The address and port in a Binding response; raises only :class:`Malformed`."""
    kind, identifier, attributes = _parse(data)
    if credential is not None and not is_authentic(data, credential.password.encode()):
        raise Malformed("a STUN response was dropped", why="nothing proves whose it is (RFC 8489 §9.1.4)")
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
