"""IKEv2 payloads (RFC 7296 §3.3 to §3.16): a frozen value each, reading and writing side by side.

``parse`` takes a :class:`Cursor` whose range is the payload's body and raises only :class:`Malformed`.
"""

from __future__ import annotations

from collections.abc import Callable
from struct import Struct
from typing import ClassVar, Protocol

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.policy.algorithms import BY_NUMBER, TransformType
from zesty_burrow.protocols.ikev2.wire.registry import ConfigType, PayloadType, TsType
from zesty_burrow.records import dataclass, field

MAX_PROPOSALS = 64
_SUBSTRUCTURE, _NOTIFY, _PROPOSAL, _ATTRIBUTE = Struct(">BBH"), Struct(">BBH"), Struct(">4B"), Struct(">HH")


class Payload(Protocol):
    """What every payload value offers."""

    @property
    def type(self) -> int:
        """The number of the payload type."""

    def body(self) -> bytes:
        """The octets behind the generic payload header."""


@dataclass(frozen=True, slots=True)
class Transform:
    """RFC 7296 §3.3.2: one algorithm; ``key_bits`` is the Key Length attribute, 0 where absent."""

    type: int
    number: int
    key_bits: int = 0

    def octets(self, last: bool) -> bytes:
        attribute = _ATTRIBUTE.pack(0x800E, self.key_bits) if self.key_bits else b""
        return (
            _SUBSTRUCTURE.pack(0 if last else 3, 0, 8 + len(attribute))
            + _SUBSTRUCTURE.pack(self.type, 0, self.number)
            + attribute
        )

    @classmethod
    def parse(cls, cursor: Cursor) -> tuple[Transform, bool]:
        """The transform and whether more follow."""
        more, _, length = cursor.fields(_SUBSTRUCTURE)
        key_bits = 0
        with cursor.within(length - 4, "a transform"):
            kind, _, number = cursor.fields(_SUBSTRUCTURE)
            while cursor.remaining:
                attribute, value = cursor.fields(_ATTRIBUTE)
                if not attribute & 0x8000:
                    cursor.take(value)
                elif attribute == 0x800E:
                    key_bits = value
                else:
                    # RFC 7296 §3.3.6: a transform with an attribute that we do not know is not ours to choose.
                    kind, number = 0, 0
        return cls(kind, number, key_bits), more == 3


@dataclass(frozen=True, slots=True)
class Proposal:
    """RFC 7296 §3.3.1."""

    number: int
    protocol: int
    spi: bytes
    transforms: tuple[Transform, ...]

    def octets(self, last: bool) -> bytes:
        final = len(self.transforms) - 1
        inner = b"".join(entry.octets(index == final) for index, entry in enumerate(self.transforms))
        return (
            bytes([0 if last else 2, 0])
            + (8 + len(self.spi) + len(inner)).to_bytes(2)
            + bytes([self.number, self.protocol, len(self.spi), len(self.transforms)])
            + self.spi
            + inner
        )

    @classmethod
    def parse(cls, cursor: Cursor) -> tuple[Proposal, bool]:
        """The proposal and whether more follow."""
        more, _, length = cursor.fields(_SUBSTRUCTURE)
        transforms: list[Transform] = []
        with cursor.within(length - 4, "a proposal"):
            number, protocol, spi_size, count = cursor.fields(_PROPOSAL)
            spi = cursor.take(spi_size)
            going_on = count > 0
            while going_on:
                transform, going_on = Transform.parse(cursor)
                transforms.append(transform)
            if len(transforms) != count:
                raise cursor.fail(f"{count} transforms are announced, {len(transforms)} are there")
        return cls(number, protocol, spi, tuple(transforms)), more == 2


@dataclass(frozen=True, slots=True)
class SecurityAssociation:
    """RFC 7296 §3.3."""

    proposals: tuple[Proposal, ...]
    type: ClassVar[int] = PayloadType.SA

    def body(self) -> bytes:
        final = len(self.proposals) - 1
        return b"".join(entry.octets(index == final) for index, entry in enumerate(self.proposals))

    @classmethod
    def parse(cls, cursor: Cursor) -> SecurityAssociation:
        proposals: list[Proposal] = []
        more = True
        while more:
            proposal, more = Proposal.parse(cursor)
            proposals.append(proposal)
            if len(proposals) > MAX_PROPOSALS:
                raise cursor.fail(f"more than {MAX_PROPOSALS} proposals")
        return cls(tuple(proposals))


@dataclass(frozen=True, slots=True)
class KeyExchange:
    """RFC 7296 §3.4."""

    group: int
    data: bytes
    type: ClassVar[int] = PayloadType.KE

    def body(self) -> bytes:
        return self.group.to_bytes(2) + b"\0\0" + self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> KeyExchange:
        group = cursor.u16()
        cursor.u16()
        return cls(group, cursor.rest())


@dataclass(frozen=True, slots=True)
class Identification:
    """RFC 7296 §3.5; ``type`` is IDi or IDr."""

    type: int
    id_type: int
    data: bytes

    def body(self) -> bytes:
        return bytes([self.id_type, 0, 0, 0]) + self.data

    @classmethod
    def reader(cls, kind: int) -> Callable[[Cursor], Identification]:
        """A parse function for IDi or IDr."""

        def parse(cursor: Cursor) -> Identification:
            id_type = cursor.u8()
            cursor.take(3)
            return cls(kind, id_type, cursor.rest())

        return parse


@dataclass(frozen=True, slots=True)
class Certificate:
    """RFC 7296 §3.6."""

    encoding: int
    data: bytes
    type: ClassVar[int] = PayloadType.CERT

    def body(self) -> bytes:
        return bytes([self.encoding]) + self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> Certificate:
        return cls(cursor.u8(), cursor.rest())


@dataclass(frozen=True, slots=True)
class CertificateRequest:
    """RFC 7296 §3.7; ``data`` holds SHA-1 hashes of the authorities' public keys, 20 octets each."""

    encoding: int
    data: bytes
    type: ClassVar[int] = PayloadType.CERTREQ

    def body(self) -> bytes:
        return bytes([self.encoding]) + self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> CertificateRequest:
        return cls(cursor.u8(), cursor.rest())


@dataclass(frozen=True, slots=True)
class Authentication:
    """RFC 7296 §3.8."""

    method: int
    data: bytes
    type: ClassVar[int] = PayloadType.AUTH

    def body(self) -> bytes:
        return bytes([self.method, 0, 0, 0]) + self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> Authentication:
        method = cursor.u8()
        cursor.take(3)
        return cls(method, cursor.rest())


@dataclass(frozen=True, slots=True)
class Nonce:
    """RFC 7296 §3.9: 16 to 256 octets."""

    data: bytes
    type: ClassVar[int] = PayloadType.NONCE

    def is_long_enough(self, prf: int) -> bool:
        """RFC 7296 §2.10: at least half of the key of the function agreed on. ``prf``: its IANA number."""
        entry = BY_NUMBER.get((TransformType.PRF, prf))
        return entry is None or 2 * len(self.data) >= entry.size

    def body(self) -> bytes:
        return self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> Nonce:
        if not 16 <= cursor.remaining <= 256:
            raise cursor.fail(f"a nonce of {cursor.remaining} octets; 16 to 256 are allowed")
        return cls(cursor.rest())


@dataclass(frozen=True, slots=True)
class Notify:
    """RFC 7296 §3.10."""

    notification: int
    data: bytes = b""
    protocol: int = 0
    spi: bytes = b""
    type: ClassVar[int] = PayloadType.NOTIFY

    @property
    def is_error(self) -> bool:
        """RFC 7296 §3.10.1: types 0 to 16383 report errors."""
        return self.notification < 16384

    def body(self) -> bytes:
        return bytes([self.protocol, len(self.spi)]) + self.notification.to_bytes(2) + self.spi + self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> Notify:
        protocol, spi_size, notification = cursor.fields(_NOTIFY)
        spi = cursor.take(spi_size) if spi_size else b""
        return cls(notification, cursor.rest(), protocol, spi)


@dataclass(frozen=True, slots=True)
class Delete:
    """RFC 7296 §3.11."""

    protocol: int
    spis: tuple[bytes, ...] = ()
    type: ClassVar[int] = PayloadType.DELETE

    def body(self) -> bytes:
        size = len(self.spis[0]) if self.spis else 0
        return bytes([self.protocol, size]) + len(self.spis).to_bytes(2) + b"".join(self.spis)

    @classmethod
    def parse(cls, cursor: Cursor) -> Delete:
        protocol, size, count = cursor.u8(), cursor.u8(), cursor.u16()
        if size * count != cursor.remaining:
            raise cursor.fail(f"{count} SPIs of {size} octets are announced in {cursor.remaining} octets")
        return cls(protocol, tuple(cursor.take(size) for _ in range(count)) if size else ())


@dataclass(frozen=True, slots=True)
class TrafficSelector:
    """RFC 7296 §3.13.1: a range of addresses and ports; addresses are 4 or 16 octets."""

    start: bytes
    end: bytes
    protocol: int = 0
    start_port: int = 0
    end_port: int = 65535

    @property
    def covers_all(self) -> bool:
        """Whether it is for every protocol and every port."""
        return self.protocol == 0 and self.start_port == 0 and self.end_port == 65535

    def octets(self) -> bytes:
        kind = TsType.TS_IPV4_ADDR_RANGE if len(self.start) == 4 else TsType.TS_IPV6_ADDR_RANGE
        return (
            bytes([kind, self.protocol])
            + (8 + 2 * len(self.start)).to_bytes(2)
            + self.start_port.to_bytes(2)
            + self.end_port.to_bytes(2)
            + self.start
            + self.end
        )


@dataclass(frozen=True, slots=True)
class TrafficSelectors:
    """RFC 7296 §3.13; ``type`` is TSi or TSr. Selectors of unknown types are left out."""

    type: int
    selectors: tuple[TrafficSelector, ...]

    def body(self) -> bytes:
        return bytes([len(self.selectors), 0, 0, 0]) + b"".join(entry.octets() for entry in self.selectors)

    @classmethod
    def reader(cls, kind: int) -> Callable[[Cursor], TrafficSelectors]:
        """A parse function for TSi or TSr."""
        sizes: dict[int, int] = {TsType.TS_IPV4_ADDR_RANGE: 4, TsType.TS_IPV6_ADDR_RANGE: 16}

        def parse(cursor: Cursor) -> TrafficSelectors:
            count = cursor.u8()
            cursor.take(3)
            selectors: list[TrafficSelector] = []
            for _ in range(count):
                ts_type, protocol, length = cursor.fields(_SUBSTRUCTURE)
                with cursor.within(length - 4, "a traffic selector"):
                    size = sizes.get(ts_type)
                    if size is None:
                        cursor.rest()
                        continue
                    first_port, last_port = cursor.u16(), cursor.u16()
                    start, end = cursor.take(size), cursor.take(size)
                    if start > end:
                        raise cursor.fail("a traffic selector ends before it starts")
                    selectors.append(TrafficSelector(start, end, protocol, first_port, last_port))
            return cls(kind, tuple(selectors))

        return parse


@dataclass(frozen=True, slots=True)
class Configuration:
    """RFC 7296 §3.15; ``attributes`` are pairs of type and value in the order in which they came."""

    config_type: int
    attributes: tuple[tuple[int, bytes], ...]
    type: ClassVar[int] = PayloadType.CP

    def body(self) -> bytes:
        parts = [kind.to_bytes(2) + len(value).to_bytes(2) + value for kind, value in self.attributes]
        return bytes([self.config_type, 0, 0, 0]) + b"".join(parts)

    def values(self, kind: int) -> list[bytes]:
        """The values of one attribute type; empty ones mean "requested" and are left out of replies."""
        found = [value for entry, value in self.attributes if entry == kind]
        return [value for value in found if value] if self.config_type == ConfigType.CFG_REPLY else found

    @classmethod
    def parse(cls, cursor: Cursor) -> Configuration:
        config_type = cursor.u8()
        cursor.take(3)
        attributes: list[tuple[int, bytes]] = []
        while cursor.remaining:
            kind, size = cursor.fields(_ATTRIBUTE)
            attributes.append((kind & 0x7FFF, cursor.take(size)))
        return cls(config_type, tuple(attributes))


@dataclass(frozen=True, slots=True)
class Eap:
    """RFC 7296 §3.16: an EAP packet, unchanged."""

    data: bytes
    type: ClassVar[int] = PayloadType.EAP

    def body(self) -> bytes:
        return self.data

    @classmethod
    def parse(cls, cursor: Cursor) -> Eap:
        return cls(cursor.rest())


@dataclass(frozen=True, slots=True)
class Opaque:
    """A payload that we do not read: vendor identifications and types unknown to us."""

    type: int
    data: bytes = field(repr=False)
    critical: bool = False

    def body(self) -> bytes:
        return self.data


READERS: dict[int, Callable[[Cursor], Payload]] = {
    PayloadType.SA: SecurityAssociation.parse,
    PayloadType.KE: KeyExchange.parse,
    PayloadType.IDi: Identification.reader(PayloadType.IDi),
    PayloadType.IDr: Identification.reader(PayloadType.IDr),
    PayloadType.CERT: Certificate.parse,
    PayloadType.CERTREQ: CertificateRequest.parse,
    PayloadType.AUTH: Authentication.parse,
    PayloadType.NONCE: Nonce.parse,
    PayloadType.NOTIFY: Notify.parse,
    PayloadType.DELETE: Delete.parse,
    PayloadType.TSi: TrafficSelectors.reader(PayloadType.TSi),
    PayloadType.TSr: TrafficSelectors.reader(PayloadType.TSr),
    PayloadType.CP: Configuration.parse,
    PayloadType.EAP: Eap.parse,
}
