"""Capsules (RFC 9297 §3.2) and those of CONNECT-IP (RFC 9484 §4.7), read from a stream and written."""

from __future__ import annotations

from collections.abc import Sequence
from enum import IntEnum
from ipaddress import IPv4Interface, IPv6Interface, ip_address, ip_interface

from zesty_burrow.core.net import AddressRange
from zesty_burrow.core.packets.varint import read_varint, write_varint
from zesty_burrow.errors import Malformed
from zesty_burrow.records import dataclass

MAX_PACKET = 65535
MAX_CONTROL = 1 << 14
"""Octets of a capsule that is not a datagram: a thousand routes of IPv4, four hundred of IPv6."""
SKIPPED = 0x17
"""RFC 9297 §5.4: types of 0x29 * N + 0x17 mean nothing; a receiver skips them."""
Interface = IPv4Interface | IPv6Interface


class CapsuleType(IntEnum):
    """RFC 9297 §3.5, RFC 9484 §12.4."""

    DATAGRAM = 0
    ADDRESS_ASSIGN = 1
    ADDRESS_REQUEST = 2
    ROUTE_ADVERTISEMENT = 3


@dataclass(frozen=True, slots=True)
class AddressEntry:
    """An address of a request or an assignment (RFC 9484 §4.7.1, §4.7.2); ``request``: 0 where nothing was asked."""

    request: int
    address: Interface

    @property
    def is_nothing(self) -> bool:
        """The all-zero address of full prefix length: no preference, or a refusal."""
        return int(self.address) == 0 and self.address.network.prefixlen == self.address.max_prefixlen


@dataclass(frozen=True, slots=True)
class Route:
    """A range of addresses (RFC 9484 §4.7.3); ``protocol``: of IP, 0 for all."""

    range: AddressRange
    protocol: int = 0


def no_address(version: int) -> Interface:
    """No preference, or a refusal: the all-zero address of full prefix length (RFC 9484 §4.7.1, §4.7.2)."""
    return ip_interface("::/128" if version == 6 else "0.0.0.0/32")


def write_capsule(kind: int, value: bytes) -> bytes:
    return write_varint(kind) + write_varint(len(value)) + value


def write_packet(packet: bytes) -> bytes:
    """An IP packet in a DATAGRAM capsule, under context 0 (RFC 9484 §6)."""
    size = len(packet) + 1
    # Most packets' lengths have two octets (RFC 9000 §16).
    length = (0x4000 | size).to_bytes(2) if 64 <= size < 1 << 14 else write_varint(size)
    return b"\0" + length + b"\0" + packet


def read_payload(payload: bytes) -> bytes:
    """The IP packet of an HTTP Datagram's payload; empty where its context is not known (RFC 9484 §6)."""
    context, at = read_varint(payload, 0)
    return payload[at:] if context == 0 else b""


def write_addresses(kind: CapsuleType, entries: Sequence[AddressEntry]) -> bytes:
    return write_capsule(kind, b"".join(_address(entry) for entry in entries))


def _address(entry: AddressEntry) -> bytes:
    address = entry.address
    fields = bytes([address.version]) + address.ip.packed + bytes([address.network.prefixlen])
    return write_varint(entry.request) + fields


def read_addresses(value: bytes, *, asked: bool) -> list[AddressEntry]:
    """Entries of ADDRESS_ASSIGN or, where ``asked``, of ADDRESS_REQUEST. Raises ``Malformed``."""
    entries: list[AddressEntry] = []
    at = 0
    while at < len(value):
        request, at = read_varint(value, at)
        version = value[at] if request >= 0 and at < len(value) else 0
        size = {4: 4, 6: 16}.get(version, 0)
        if not size or at + size + 2 > len(value):
            raise _malformed("an address", "its request ID, version or length is wrong")
        address, prefix = ip_address(bytes(value[at + 1 : at + 1 + size])), value[at + 1 + size]
        at += size + 2
        if prefix > 8 * size:
            raise _malformed("an address", f"its prefix has {prefix} bits")
        entry = AddressEntry(request, ip_interface(f"{address}/{prefix}"))
        if entry.address.network.network_address != address:
            raise _malformed("an address", "bits below its prefix are set")
        if asked and request == 0:
            raise _malformed("an address", "its request ID is 0")
        entries.append(entry)
    if asked and not entries:
        raise _malformed("an ADDRESS_REQUEST", "it asks for nothing")
    return entries


def write_routes(routes: Sequence[Route]) -> bytes:
    """ROUTE_ADVERTISEMENT; the order that is asked for is made here."""
    ordered = sorted(routes, key=lambda one: (one.range.version, one.protocol, one.range.start))
    rows = (bytes([one.range.version]) + one.range.start + one.range.end + bytes([one.protocol]) for one in ordered)
    return write_capsule(CapsuleType.ROUTE_ADVERTISEMENT, b"".join(rows))


def read_routes(value: bytes) -> list[Route]:
    """Entries of a ROUTE_ADVERTISEMENT. Raises ``Malformed``, also for a wrong order and for ranges that overlap."""
    routes: list[Route] = []
    at = 0
    while at < len(value):
        size = {4: 4, 6: 16}.get(value[at], 0)
        if not size or at + 2 * size + 2 > len(value):
            raise _malformed("a route", "its version or length is wrong")
        start, end = value[at + 1 : at + 1 + size], value[at + 1 + size : at + 1 + 2 * size]
        route = Route(AddressRange(bytes(start), bytes(end)), value[at + 1 + 2 * size])
        at += 2 * size + 2
        if start > end:
            raise _malformed("a route", "its first address is above its last")
        if routes:
            before = routes[-1]
            rank = (route.range.version, route.protocol)
            earlier = (before.range.version, before.protocol)
            if rank < earlier or (rank == earlier and route.range.start <= before.range.end):
                raise _malformed("a route", "it is out of order, or overlaps the one before")
        routes.append(route)
    return routes


class CapsuleReader:
    """Cuts a stream into capsules, whatever pieces it comes in; types that are not known here are skipped.

    Only a capsule's own octets are kept, and of those that are skipped none.
    """

    def __init__(self) -> None:
        self._kept = bytearray()
        self._skip = 0

    def hand_over(self) -> tuple[bytes, int]:
        """What is kept, and how many octets are yet to be skipped, for another reader; this one is empty then."""
        kept, skip = bytes(self._kept), self._skip
        self._kept.clear()
        self._skip = 0
        return kept, skip

    @property
    def is_between(self) -> bool:
        """Whether the stream may end here: not within a capsule."""
        return not self._kept and not self._skip

    def feed(self, data: bytes) -> list[tuple[CapsuleType, bytes]]:
        """The capsules that are complete now. Raises ``Malformed`` for one that is longer than it may be."""
        found: list[tuple[CapsuleType, bytes]] = []
        kept = self._kept
        kept += data
        at = 0
        while at < len(kept):
            if not self._skip and len(kept) - at > 3 and not kept[at] and kept[at + 1] >> 6 == 1:
                # A datagram whose length has two octets, as most have; anything else is read in full below.
                end = at + 3 + ((kept[at + 1] & 0x3F) << 8 | kept[at + 2])
                if end > len(kept):
                    break
                found.append((CapsuleType.DATAGRAM, bytes(kept[at + 3 : end])))
                at = end
                continue
            if self._skip:
                passed = min(self._skip, len(kept) - at)
                self._skip -= passed
                at += passed
                continue
            kind, after = read_varint(kept, at)
            length, begin = read_varint(kept, after) if kind >= 0 else (-1, at)
            if length < 0:
                break
            if kind not in _KNOWN:
                self._skip = length
                at = begin
                continue
            if length > (MAX_PACKET + 8 if kind == CapsuleType.DATAGRAM else MAX_CONTROL):
                raise _malformed("a capsule", f"it announces {length} octets")
            if begin + length > len(kept):
                break
            found.append((CapsuleType(kind), bytes(kept[begin : begin + length])))
            at = begin + length
        del kept[:at]
        return found


_KNOWN = frozenset(map(int, CapsuleType))


def _malformed(what: str, why: str) -> Malformed:
    return Malformed(f"{what} of the tunnel is malformed", why=why)
