"""ISAKMP messages (RFC 2408 §3.1, §3.2): header, chain of payloads, encryption in CBC mode (RFC 2409 appendix B)."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Sequence
from enum import IntEnum
from typing import NamedTuple

from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

VERSION = 0x10
"""1.0"""
HEADER = struct.Struct(">8s8sBBBBII")
ENCRYPTED = 1
MAX_PAYLOADS = 32
MAX_MESSAGE = 1 << 16
NON_ESP = bytes(4)
"""Before each message to or from port 4500 (RFC 3948 §2.2)."""
ENCR_3DES = 3


class Exchange(IntEnum):
    """RFC 2408 §3.1, RFC 2409 §5.5."""

    MAIN = 2
    AGGRESSIVE = 4
    INFORMATIONAL = 5
    QUICK = 32


class Kind(IntEnum):
    """Payload types (RFC 2408 §3.1, RFC 3947 §3.2, §5.2)."""

    NONE = 0
    SA = 1
    KEY_EXCHANGE = 4
    IDENTIFICATION = 5
    CERTIFICATE = 6
    CERTIFICATE_REQUEST = 7
    HASH = 8
    SIGNATURE = 9
    NONCE = 10
    NOTIFICATION = 11
    DELETE = 12
    VENDOR_ID = 13
    NAT_DISCOVERY = 20
    NAT_ORIGINAL_ADDRESS = 21


class Payload(NamedTuple):
    """A payload's type and what follows its four octets of header."""

    kind: int
    body: bytes


@dataclass(frozen=True, slots=True)
class Header:
    """``cookies``: the initiator's and the responder's, eight octets each."""

    cookies: tuple[bytes, bytes]
    exchange: int
    message_id: int = 0
    encrypted: bool = False


def read_header(data: bytes) -> tuple[Header, int, bytes]:
    """Header, type of the first payload, and what follows. Raises :class:`Malformed`."""
    if len(data) < HEADER.size or len(data) > MAX_MESSAGE:
        raise Malformed("an ISAKMP message is malformed", why=f"it has {len(data)} octets")
    cookie_i, cookie_r, first, version, exchange, flags, message_id, length = HEADER.unpack_from(data)
    if version >> 4 != VERSION >> 4:
        raise Malformed("an ISAKMP message is malformed", why=f"its version is {version >> 4}.{version & 15}, not 1")
    if length < HEADER.size or length > len(data):
        raise Malformed("an ISAKMP message is malformed", why=f"it announces {length} octets and has {len(data)}")
    header = Header((cookie_i, cookie_r), exchange, message_id, bool(flags & ENCRYPTED))
    return header, first, data[HEADER.size : length]


def read_payloads(first: int, data: bytes, *, padded: bool = False) -> tuple[list[Payload], int]:
    """The chain of payloads, and how many octets it takes; ``padded``: zeros may follow. Raises :class:`Malformed`."""
    cursor, kind = Cursor(data, "an ISAKMP message"), first
    payloads: list[Payload] = []
    while kind != Kind.NONE:
        if len(payloads) >= MAX_PAYLOADS:
            raise cursor.fail(f"it has more than {MAX_PAYLOADS} payloads")
        following, reserved, length = cursor.u8(), cursor.u8(), cursor.u16()
        if reserved:
            # A wrong key gives something else here (RFC 2408 §5.2).
            raise cursor.fail("a reserved octet is not zero")
        if length < 4:
            raise cursor.fail(f"a payload announces {length} octets, which is less than its header")
        payloads.append(Payload(kind, cursor.take(length - 4)))
        kind = following
    end = cursor.position
    if not padded:
        cursor.finish()
    return payloads, end


def write_payloads(payloads: Sequence[Payload]) -> bytes:
    following = [int(payload.kind) for payload in payloads[1:]] + [0]
    return b"".join(
        bytes((kind, 0)) + (len(one.body) + 4).to_bytes(2) + one.body
        for kind, one in zip(following, payloads, strict=True)
    )


def write_message(header: Header, first: int, body: bytes) -> bytes:
    flags = ENCRYPTED if header.encrypted else 0
    fields = first, VERSION, header.exchange, flags, header.message_id, HEADER.size + len(body)
    return HEADER.pack(*header.cookies, *fields) + body


def of_kind(payloads: Iterable[Payload], kind: int) -> list[bytes]:
    """The bodies of all payloads of a type."""
    return [payload.body for payload in payloads if payload.kind == kind]


def only(payloads: Sequence[Payload], kind: Kind) -> bytes:
    """The one payload of a type. Raises :class:`Malformed` where there are more or none."""
    found = of_kind(payloads, kind)
    if len(found) != 1:
        raise Malformed("an ISAKMP message is malformed", why=f"it has {len(found)} {kind.name} payloads, not one")
    return found[0]


class CbcCipher:
    """The cipher of an ISAKMP SA. Each message's last block is the next one's IV (RFC 2409 appendix B)."""

    def __init__(self, encryption: int, key: bytes) -> None:
        self._cipher = TripleDES(key) if encryption == ENCR_3DES else algorithms.AES(key)
        self.block = 8 if encryption == ENCR_3DES else 16

    def seal(self, vector: bytes, plaintext: bytes) -> bytes:
        """Filled up with zeros to whole blocks."""
        machine = Cipher(self._cipher, modes.CBC(vector[: self.block])).encryptor()
        return machine.update(plaintext + bytes(-len(plaintext) % self.block)) + machine.finalize()

    def open(self, vector: bytes, sealed: bytes) -> bytes:
        """The plaintext with its filling. Raises :class:`Malformed` where these are not whole blocks."""
        if not sealed or len(sealed) % self.block:
            raise Malformed("an ISAKMP message is malformed", why=f"{len(sealed)} octets do not make whole blocks")
        machine = Cipher(self._cipher, modes.CBC(vector[: self.block])).decryptor()
        return machine.update(sealed) + machine.finalize()
