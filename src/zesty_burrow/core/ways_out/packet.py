"""A frame on the wire, read as far as allowances ask: a stranger's octets, which may be anything."""

from __future__ import annotations

import ipaddress
from typing import NamedTuple

from zesty_burrow.core.ways_out.beside import Allowed
from zesty_burrow.core.ways_out.capture_filter import CARRIERS, ETHERNET, IPV4, IPV6, OwnPort, WatchedPackets
from zesty_burrow.core.ways_out.classes.conditions import (
    DESTINATION,
    PORT,
    PROTOCOL,
    SOURCE,
    SOURCE_PORT,
    USER,
    Condition,
)

HEADERS_BEFORE_TRANSPORT = (0, 43, 60)
"""Hop-by-hop options, routing, destination options (RFC 8200 §4)."""
FRAGMENT = 44
WITH_PORTS = (6, 17, 132)
PPP_IPV4, PPP_IPV6 = 0x0021, 0x0057
MOST_HEADERS = 8
NAMES = {1: "ICMP", 6: "TCP", 17: "UDP", 47: "GRE", 50: "ESP", 58: "ICMPv6", 132: "SCTP"}


class SeenPacket(NamedTuple):
    """``is_piece``: a fragment without ports."""

    version: int
    source: int
    destination: int
    protocol: int
    source_port: int = 0
    port: int = 0
    is_piece: bool = False

    @property
    def protocol_name(self) -> str:
        return NAMES.get(self.protocol, str(self.protocol))

    def endpoint(self, *, remote: bool) -> str:
        """Address and port for people."""
        number, port = (self.destination, self.port) if remote else (self.source, self.source_port)
        address = ipaddress.IPv4Address(number) if self.version == 4 else ipaddress.IPv6Address(number)
        if self.protocol not in WITH_PORTS or self.is_piece:
            return str(address)
        return f"[{address}]:{port}" if self.version == 6 else f"{address}:{port}"


def read_frame(frame: bytes, *, is_ethernet: bool) -> SeenPacket | None:
    """The packet in a frame, also behind VLAN tags and PPP over Ethernet; None if no packet can be read."""
    if not is_ethernet:
        return _packet(frame)
    kind, start = int.from_bytes(frame[12:14]), ETHERNET
    while kind in CARRIERS[:2] and start < 40:
        kind, start = int.from_bytes(frame[start + 2 : start + 4]), start + 4
    if kind in CARRIERS[2:]:
        inner = int.from_bytes(frame[start + 6 : start + 8])
        return _packet(frame[start + 8 :]) if inner in (PPP_IPV4, PPP_IPV6) else None
    return _packet(frame[start:]) if kind in (IPV4, IPV6) else None


def _packet(data: bytes) -> SeenPacket | None:
    if len(data) >= 20 and data[0] >> 4 == 4:
        header = 4 * (data[0] & 0xF)
        piece = bool(int.from_bytes(data[6:8]) & 0x1FFF)
        source, destination = int.from_bytes(data[12:16]), int.from_bytes(data[16:20])
        return _with_ports(SeenPacket(4, source, destination, data[9], is_piece=piece), data[header:])
    if len(data) >= 40 and data[0] >> 4 == 6:
        following, start, piece = data[6], 40, False
        for _ in range(MOST_HEADERS):
            if following in HEADERS_BEFORE_TRANSPORT and len(data) >= start + 8:
                following, start = data[start], start + 8 * (data[start + 1] + 1)
            elif following == FRAGMENT and len(data) >= start + 8:
                piece = piece or bool(int.from_bytes(data[start + 2 : start + 4]) & 0xFFF8)
                following, start = data[start], start + 8
            else:
                break
        source, destination = int.from_bytes(data[8:24]), int.from_bytes(data[24:40])
        return _with_ports(SeenPacket(6, source, destination, following, is_piece=piece), data[start:])
    return None


def _with_ports(packet: SeenPacket, transport: bytes) -> SeenPacket:
    if packet.is_piece or packet.protocol not in WITH_PORTS or len(transport) < 4:
        return packet
    return packet._replace(source_port=int.from_bytes(transport[:2]), port=int.from_bytes(transport[2:4]))


def explanation(packet: SeenPacket, watched: WatchedPackets, device: int, user: int = -1) -> str:
    """Why a packet may leave by a device: the name of an allowance, "elsewhere" for one that belongs in no tunnel;
    empty where nothing explains it. ``user``: of the process that has sent it, below 0 where that is not known.
    """
    if not any(_is_in(packet, one) for one in watched.belonging):
        return "elsewhere"
    for allowed in watched.allowed.get(packet.version, ()):
        if (not allowed.devices or device in allowed.devices) and _allows(allowed, packet, user, watched):
            return allowed.name
    return ""


def _is_in(packet: SeenPacket, network: ipaddress.IPv4Network | ipaddress.IPv6Network) -> bool:
    shift = network.max_prefixlen - network.prefixlen
    return packet.version == network.version and packet.destination >> shift == int(network.network_address) >> shift


def _allows(allowed: Allowed, packet: SeenPacket, user: int, watched: WatchedPackets) -> bool:
    has_ports = packet.protocol in (6, 17) and not packet.is_piece
    by_owner = allowed.name == "tunnel" and has_ports and bool(watched.own or watched.mark)
    if by_owner and OwnPort(packet.protocol, packet.source_port) not in watched.own:
        return False
    values = {DESTINATION: packet.destination, SOURCE: packet.source, PROTOCOL: packet.protocol, USER: user}
    values |= {SOURCE_PORT: packet.source_port, PORT: packet.port}
    for conjunction in allowed.match:
        asked = [one for one in conjunction if not (packet.is_piece and one.field in (PORT, SOURCE_PORT))]
        if all(holds(condition, values.get(condition.field, -1)) for condition in asked):
            return True
    return False


def holds(condition: Condition, value: int) -> bool:
    """Whether a condition holds for a value; never for one that is not known (below 0)."""
    if value < 0:
        return False
    masked = value & condition.mask if condition.mask >= 0 else value
    return any(low <= masked <= high for low, high in condition.ranges) != condition.negated
