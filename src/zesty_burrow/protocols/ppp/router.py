"""IPv6 addresses on a line of PPP: router solicitations and advertisements (RFC 4861 §4, RFC 4862, RFC 8106)."""

from __future__ import annotations

import struct
from ipaddress import IPv6Address, IPv6Network

from zesty_burrow.core.cursor import Cursor
from zesty_burrow.core.packets.checksum import checksum
from zesty_burrow.records import dataclass

SOLICITATION, ADVERTISEMENT = 133, 134
PREFIX, RESOLVERS = 3, 25
AUTONOMOUS = 0x40
ICMPV6, HOPS = 58, 255
ALL_NODES, ALL_ROUTERS = IPv6Address("ff02::1").packed, IPv6Address("ff02::2").packed
LIFETIME = 86400
_PREFIX = struct.Struct(">BBBBIII16s")


@dataclass(frozen=True, slots=True)
class Advertised:
    """What a router tells. ``prefix``: for addresses of one's own."""

    prefix: IPv6Network | None
    resolvers: tuple[IPv6Address, ...]


def link_local(interface: bytes) -> bytes:
    """The address of an interface identifier on the line."""
    return b"\xfe\x80" + bytes(6) + interface


def address_of(prefix: IPv6Network, interface: bytes) -> IPv6Address:
    """RFC 4862 §5.5.3."""
    return IPv6Address(prefix.network_address.packed[:8] + interface)


def solicitation(interface: bytes) -> bytes:
    """A packet that asks the router."""
    return _packet(link_local(interface), ALL_ROUTERS, struct.pack(">BBHI", SOLICITATION, 0, 0, 0))


def advertisement(interface: bytes, prefix: IPv6Network, resolvers: tuple[IPv6Address, ...]) -> bytes:
    """A router's packet to everybody on the line."""
    body = struct.pack(">BBHBBHII", ADVERTISEMENT, 0, 0, 64, 0, 1800, 0, 0)
    body += _PREFIX.pack(PREFIX, 4, prefix.prefixlen, AUTONOMOUS, LIFETIME, LIFETIME, 0, prefix.network_address.packed)
    if resolvers:
        rows = b"".join(resolver.packed for resolver in resolvers)
        body += struct.pack(">BBHI", RESOLVERS, 1 + 2 * len(resolvers), 0, LIFETIME) + rows
    return _packet(link_local(interface), ALL_NODES, body)


def _packet(source: bytes, destination: bytes, body: bytes) -> bytes:
    pseudo = source + destination + struct.pack(">II", len(body), ICMPV6)
    check = checksum(pseudo + body)
    body = body[:2] + check.to_bytes(2) + body[4:]
    return struct.pack(">IHBB", 6 << 28, len(body), ICMPV6, HOPS) + source + destination + body


def is_of_the_line(packet: bytes) -> bool:
    """IPv6 from an address of the line itself (RFC 4291 §2.5.6): a router and who asks for it speak of addresses so."""
    return len(packet) >= 40 and packet[0] >> 4 == 6 and packet[8] == 0xFE and packet[9] & 0xC0 == 0x80


def is_for_router(packet: bytes) -> bool:
    """Whether a caller asks the router."""
    return _message(packet, SOLICITATION) is not None


def read_advertisement(packet: bytes) -> Advertised | None:
    """What a router tells; None where the packet is no advertisement. Raises :class:`Malformed`."""
    body = _message(packet, ADVERTISEMENT)
    if body is None:
        return None
    cursor = Cursor(body[16:], "a router advertisement")
    prefix: IPv6Network | None = None
    resolvers: list[IPv6Address] = []
    while cursor.remaining:
        kind, units = cursor.u8(), cursor.u8()
        if not units:
            raise cursor.fail("an option has length 0")
        value = cursor.take(units * 8 - 2)
        if kind == PREFIX and len(value) == 30 and value[1] & AUTONOMOUS and value[0] == 64:
            found = IPv6Network((value[14:22] + bytes(8), 64))
            prefix = prefix or (found if not found.is_link_local and not found.is_multicast else None)
        elif kind == RESOLVERS and len(value) % 16 == 6:
            resolvers += [IPv6Address(value[at : at + 16]) for at in range(6, len(value), 16)]
    return Advertised(prefix, tuple(resolvers[:8]))


def _message(packet: bytes, kind: int) -> bytes | None:
    """The ICMPv6 message, where it is of this type, from this very line (RFC 4861 §6.1), and whole."""
    if len(packet) < 48 or packet[0] >> 4 != 6 or packet[6] != ICMPV6 or packet[7] != HOPS or packet[40] != kind:
        return None
    body = packet[40 : 40 + int.from_bytes(packet[4:6])]
    pseudo = packet[8:40] + struct.pack(">II", len(body), ICMPV6)
    least = 16 if kind == ADVERTISEMENT else 8
    return body if len(body) >= least and checksum(pseudo + body) == 0 else None
