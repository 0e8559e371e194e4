"""IKEv2 messages: the header, the chain of payloads, and the encrypted payload (RFC 7296 §3.1, §3.2, §3.14)."""

from __future__ import annotations

from collections.abc import Iterable
from struct import Struct
from typing import TypeVar

from zesty_burrow.core.crypto.protection import Protection
from zesty_burrow.core.cursor import Cursor
from zesty_burrow.protocols.ikev2.wire.payloads import READERS, Notify, Opaque, Payload
from zesty_burrow.protocols.ikev2.wire.registry import Flag, NotifyType, PayloadType
from zesty_burrow.records import dataclass

HEADER_SIZE = 28
MAX_PAYLOADS = 64
SK, SKF = int(PayloadType.SK), int(PayloadType.SKF)
_HEADER, _GENERIC = Struct(">4B2I"), Struct(">BBH")

P = TypeVar("P")


@dataclass(frozen=True, slots=True)
class Header:
    """RFC 7296 §3.1; ``next_payload`` and ``length`` are worked out on writing."""

    initiator_spi: bytes
    responder_spi: bytes
    exchange: int
    flags: int
    message_id: int
    next_payload: int = 0
    major_version: int = 2

    @property
    def is_response(self) -> bool:
        """Whether the message answers a request."""
        return bool(self.flags & Flag.RESPONSE)

    @property
    def from_initiator(self) -> bool:
        """Whether the sender is the original initiator of the IKE SA."""
        return bool(self.flags & Flag.INITIATOR)

    def spi_is_foreign(self, spi_i: bytes, spi_r: bytes) -> bool:
        """Whether the message belongs to another IKE SA; ``spi_r`` is zero while it is not known yet."""
        return self.initiator_spi != spi_i or (spi_r != bytes(8) and self.responder_spi != spi_r)

    def octets(self, next_payload: int, length: int) -> bytes:
        """The 28 octets of the header."""
        fields = _HEADER.pack(next_payload, 0x20, self.exchange, self.flags, self.message_id, length)
        return self.initiator_spi + self.responder_spi + fields


class Unusable(Exception):
    """What the peer has really sent and what cannot be used. ``answer``: what a request is answered with.

    ``is_fatal``: the message is badly formatted, which ends the IKE SA on both sides (RFC 7296 §2.21.3).
    """

    def __init__(self, why: str, answer: Notify) -> None:
        super().__init__(why)
        self.why = why
        self.answer = answer

    @classmethod
    def by_syntax(cls, why: str) -> Unusable:
        """Badly formatted, or with a value that is out of range."""
        return cls(why, Notify(NotifyType.INVALID_SYNTAX))

    @property
    def is_fatal(self) -> bool:
        return self.answer.notification == NotifyType.INVALID_SYNTAX


@dataclass(frozen=True, slots=True)
class Message:
    """A message as it was read: ``payloads`` in the clear, and the encrypted part still sealed, if there is one."""

    header: Header
    payloads: tuple[Payload, ...]
    raw: bytes
    sealed_first: int = 0
    sealed: bytes = b""
    sealed_at: int = 0
    fragment: int = 0
    fragments: int = 0


def parse_header_untrusted(data: bytes) -> Header:
    """The header of a stranger's message; raises only :class:`Malformed`."""
    cursor = Cursor(data, "an IKE header")
    spi_i, spi_r = cursor.take(8), cursor.take(8)
    next_payload, version, exchange, flags, message_id, length = cursor.fields(_HEADER)
    if length != len(data):
        raise cursor.fail(f"the header announces {length} octets, {len(data)} came")
    if spi_i == bytes(8):
        raise cursor.fail("the initiator's SPI is zero")
    return Header(spi_i, spi_r, exchange, flags, message_id, next_payload, version >> 4)


def parse_message_untrusted(data: bytes) -> Message:
    """A stranger's message; raises only :class:`Malformed`."""
    header = parse_header_untrusted(data)
    cursor = Cursor(data, "an IKE message")
    cursor.take(HEADER_SIZE)
    payloads, sealed_first, is_fragment = _parse_chain(cursor, header.next_payload)
    if sealed_first < 0:
        return Message(header, payloads, data)
    fragment = fragments = 0
    if is_fragment:
        fragment, fragments = cursor.u16(), cursor.u16()
        if not 1 <= fragment <= fragments:
            raise cursor.fail(f"fragment {fragment} of {fragments}")
    at = cursor.position
    return Message(header, payloads, data, sealed_first, cursor.rest(), at, fragment, fragments)


def parse_inner_untrusted(first: int, plaintext: bytes) -> tuple[Payload, ...]:
    """The payloads inside an encrypted payload; raises only :class:`Malformed`."""
    cursor = Cursor(plaintext, "an encrypted payload's content")
    payloads, sealed_first, _ = _parse_chain(cursor, first)
    if sealed_first >= 0:
        raise cursor.fail("an encrypted payload inside another")
    cursor.finish()
    return payloads


def _parse_chain(cursor: Cursor, kind: int) -> tuple[tuple[Payload, ...], int, bool]:
    """Payloads up to the end or to SK or SKF; then the second value is the type of its first inner payload, else -1.

    The third value tells whether it was SKF (RFC 7383 §2.5).
    """
    payloads: list[Payload] = []
    while kind:
        if len(payloads) >= MAX_PAYLOADS:
            raise cursor.fail(f"more than {MAX_PAYLOADS} payloads")
        following, flags, length = cursor.fields(_GENERIC)
        if length < 4:
            raise cursor.fail(f"a payload announces a length of {length}")
        if kind in (SK, SKF):
            # RFC 7296 §3.14: SK is the last payload; its Next Payload names the first one inside.
            if length - 4 != cursor.remaining:
                raise cursor.fail("the encrypted payload is not the last one")
            return tuple(payloads), following, kind == SKF
        reader = READERS.get(kind)
        with cursor.within(length - 4):
            if reader is not None:
                payloads.append(reader(cursor))
            else:
                critical = bool(flags & 0x80) and kind != PayloadType.VENDOR
                payloads.append(Opaque(kind, cursor.rest(), critical))
        kind = following
    cursor.finish()
    return tuple(payloads), -1, False


def chain(payloads: Iterable[Payload]) -> tuple[int, bytes]:
    """The type of the first payload and the octets of all of them."""
    entries = list(payloads)
    kinds = [entry.type for entry in entries] + [0]
    parts: list[bytes] = []
    for entry, following in zip(entries, kinds[1:], strict=True):
        body = entry.body()
        parts += (_GENERIC.pack(following, 0, 4 + len(body)), body)
    return kinds[0], b"".join(parts)


def build_clear(header: Header, payloads: Iterable[Payload]) -> bytes:
    """A message with all payloads in the clear (IKE_SA_INIT)."""
    first, body = chain(payloads)
    return header.octets(first, HEADER_SIZE + len(body)) + body


def build_sealed(header: Header, first: int, inner: bytes, protection: Protection) -> bytes:
    """A message whose payloads are inside an encrypted payload (RFC 7296 §3.14, RFC 5282 §3).

    ``first`` and ``inner``: the type of the first of them and their octets, as :func:`chain` gives them.
    """
    pad = -(len(inner) + 1) % protection.block
    plaintext = inner + bytes(pad) + bytes([pad])
    size = 4 + len(plaintext) + protection.overhead
    head = header.octets(PayloadType.SK, HEADER_SIZE + size) + bytes([first, 0]) + size.to_bytes(2)
    return head + protection.seal(head, plaintext)


def octets_between(header: Header, first: int, inner: bytes) -> bytes:
    """RFC 9242 §3.3.2: what is authenticated of a message of ours between IKE_SA_INIT and IKE_AUTH.

    ``first`` and ``inner``: the type of the first payload in its encrypted payload, and the octets of all of them.
    """
    size = 4 + len(inner)
    return header.octets(PayloadType.SK, HEADER_SIZE + size) + bytes([first, 0]) + size.to_bytes(2) + inner


def octets_between_of(message: Message, inner: bytes) -> bytes:
    """The same of a message that has come, or of its first fragment: with the payloads in front of the encrypted one.

    Lengths are those without IV, padding and ICV; of a fragment it is what the whole message would have been.
    """
    generic = message.sealed_at - (8 if message.fragments else 4)
    octets = bytearray(message.raw[: generic + 4])
    at, following = HEADER_SIZE, 16  # where the type of the next payload stands
    while at < generic:
        at, following = at + int.from_bytes(octets[at + 2 : at + 4]), at
    octets[following] = SK
    octets[generic] = message.sealed_first
    octets[generic + 2 :] = (4 + len(inner)).to_bytes(2)
    octets[24:28] = (len(octets) + len(inner)).to_bytes(4)
    return bytes(octets) + inner


def build_fragments(header: Header, first: int, inner: bytes, protection: Protection, limit: int) -> list[bytes]:
    """The same message in parts of at most ``limit`` octets (RFC 7383 §2.5)."""
    room = limit - HEADER_SIZE - 8 - protection.overhead - protection.block
    chunks = [inner[at : at + room] for at in range(0, len(inner), room)] or [b""]
    parts = []
    for number, chunk in enumerate(chunks, start=1):
        pad = -(len(chunk) + 1) % protection.block
        plaintext = chunk + bytes(pad) + bytes([pad])
        size = 8 + len(plaintext) + protection.overhead
        head = header.octets(PayloadType.SKF, HEADER_SIZE + size) + bytes([first if number == 1 else 0, 0])
        head += size.to_bytes(2) + number.to_bytes(2) + len(chunks).to_bytes(2)
        parts.append(head + protection.seal(head, plaintext))
    return parts


def open_chunk(message: Message, protection: Protection) -> bytes:
    """What is inside an encrypted payload or a fragment; :class:`Malformed` where the ICV does not hold."""
    plaintext = protection.open(message.raw[: message.sealed_at], message.sealed)
    pad = plaintext[-1] if plaintext else 0
    if not plaintext or pad + 1 > len(plaintext):
        raise Unusable.by_syntax("the padding in it is longer than its content")
    return plaintext[: len(plaintext) - pad - 1]


def find(payloads: Iterable[Payload], kind: type[P]) -> P | None:
    """The first payload of a kind."""
    return next((entry for entry in payloads if isinstance(entry, kind)), None)


def find_all(payloads: Iterable[Payload], kind: type[P]) -> list[P]:
    """All payloads of a kind."""
    return [entry for entry in payloads if isinstance(entry, kind)]


def find_typed(payloads: Iterable[Payload], kind: type[P], number: int) -> P | None:
    """The first payload of a kind with a payload type number (IDi and IDr, TSi and TSr)."""
    return next((entry for entry in payloads if isinstance(entry, kind) and entry.type == number), None)


def told_in_all(payloads: Iterable[Payload], notification: int) -> list[bytes]:
    """The data of all notifications of a type."""
    return [entry.data for entry in find_all(payloads, Notify) if entry.notification == notification]


def notifications(payloads: Iterable[Payload]) -> dict[int, Notify]:
    """The first notification of each type."""
    found: dict[int, Notify] = {}
    for entry in payloads:
        if isinstance(entry, Notify):
            found.setdefault(entry.notification, entry)
    return found


def check_critical(payloads: Iterable[Payload]) -> None:
    """RFC 7296 §2.5: :class:`Unusable` where a payload is critical and unknown."""
    unknown = next((entry.type for entry in payloads if isinstance(entry, Opaque) and entry.critical), None)
    if unknown is not None:
        answer = Notify(NotifyType.UNSUPPORTED_CRITICAL_PAYLOAD, bytes([unknown]))
        raise Unusable(f"it has a critical payload of the unknown type {unknown}", answer)
