"""UDP in IPv4 and IPv6 packets, made and read without the operating system (RFC 768, RFC 791, RFC 8200).

Just enough to ask a name server or a STUN server through a tunnel that has no device: whole packets, no fragments,
no options made; options and extension headers are passed over when reading.
"""

from __future__ import annotations

from ipaddress import ip_address

from zesty_burrow.core.net import UDP, Address
from zesty_burrow.core.packets.checksum import checksum
from zesty_burrow.errors import Malformed, ProgramFault
from zesty_burrow.records import dataclass

HOP_LIMIT = 64
MAX_PAYLOAD = 1232
"""What fits into an IPv6 packet of 1280 octets; nothing that we ask is longer."""
_EXTENSIONS = frozenset({0, 43, 60})
"""RFC 8200 §4.1: hop-by-hop, routing and destination options."""
MAX_EXTENSIONS = 8


@dataclass(frozen=True, slots=True)
class UdpDatagram:
    """A datagram with where it comes from and goes to."""

    source: Address
    source_port: int
    destination: Address
    destination_port: int
    payload: bytes


def _pseudo_header(source: bytes, destination: bytes, length: int) -> bytes:
    """RFC 768 for IPv4, RFC 8200 §8.1 for IPv6; both say who talks to whom, how much, and that it is UDP."""
    if len(source) == 4:
        return source + destination + bytes((0, UDP)) + length.to_bytes(2)
    return source + destination + length.to_bytes(4) + bytes((0, 0, 0, UDP))


def build_udp(datagram: UdpDatagram) -> bytes:
    """The IP packet around a datagram."""
    source, destination = datagram.source.packed, datagram.destination.packed
    length = 8 + len(datagram.payload)
    if len(source) != len(destination) or len(datagram.payload) > MAX_PAYLOAD:
        raise ProgramFault("a datagram is to be made of two address families, or is too long")
    ports = datagram.source_port.to_bytes(2) + datagram.destination_port.to_bytes(2) + length.to_bytes(2)
    # RFC 768: a sum of zero is sent as all ones, since zero means "no checksum".
    check = checksum(_pseudo_header(source, destination, length) + ports + b"\0\0" + datagram.payload)
    udp = ports + (check or 0xFFFF).to_bytes(2) + datagram.payload
    if len(source) == 16:
        return b"\x60\0\0\0" + length.to_bytes(2) + bytes((UDP, HOP_LIMIT)) + source + destination + udp
    # RFC 6864 §4.1: with "don't fragment" set the identification means nothing.
    head = b"\x45\0" + (20 + length).to_bytes(2) + b"\0\0\x40\0" + bytes((HOP_LIMIT, UDP))
    check = checksum(head + b"\0\0" + source + destination)
    return head + check.to_bytes(2) + source + destination + udp


def parse_udp_untrusted(packet: bytes) -> UdpDatagram:
    """The datagram inside a stranger's IP packet; raises only :class:`Malformed`, also for what is not UDP."""
    version = packet[0] >> 4 if packet else 0
    if version == 4:
        source, destination, body = _open_ipv4(packet)
    elif version == 6:
        source, destination, body = _open_ipv6(packet)
    else:
        raise Malformed("a packet is malformed", why="it is neither IPv4 nor IPv6")
    if len(body) < 8:
        raise Malformed("a packet is malformed", why="it is too short for UDP")
    length = int.from_bytes(body[4:6])
    if not 8 <= length <= len(body):
        raise Malformed("a packet is malformed", why=f"UDP announces {length} octets, {len(body)} are there")
    body = body[:length]
    checked = body[6:8] != b"\0\0"
    if not checked and version == 6:
        raise Malformed("a packet is malformed", why="UDP over IPv6 has no checksum (RFC 8200 §8.1)")
    if checked and checksum(_pseudo_header(source, destination, length) + body):
        raise Malformed("a packet is malformed", why="its UDP checksum does not hold")
    ports = int.from_bytes(body[:2]), int.from_bytes(body[2:4])
    return UdpDatagram(ip_address(source), ports[0], ip_address(destination), ports[1], body[8:])


def _open_ipv4(packet: bytes) -> tuple[bytes, bytes, bytes]:
    size = (packet[0] & 15) * 4
    if len(packet) < 20 or not 20 <= size <= len(packet):
        raise Malformed("a packet is malformed", why="its IPv4 header is cut short")
    total = int.from_bytes(packet[2:4])
    if not size <= total <= len(packet):
        raise Malformed("a packet is malformed", why=f"IPv4 announces {total} octets, {len(packet)} are there")
    if checksum(packet[:size]):
        raise Malformed("a packet is malformed", why="its IPv4 checksum does not hold")
    if int.from_bytes(packet[6:8]) & 0x3FFF:
        raise Malformed("a packet was dropped", why="it is a fragment")
    if packet[9] != UDP:
        raise Malformed("a packet was dropped", why=f"it is not UDP but protocol {packet[9]}")
    return packet[12:16], packet[16:20], packet[size:total]


def _open_ipv6(packet: bytes) -> tuple[bytes, bytes, bytes]:
    if len(packet) < 40 or 40 + int.from_bytes(packet[4:6]) > len(packet):
        raise Malformed("a packet is malformed", why="its IPv6 header is cut short")
    end = 40 + int.from_bytes(packet[4:6])
    following, at = packet[6], 40
    for _ in range(MAX_EXTENSIONS):
        if following not in _EXTENSIONS:
            break
        if at + 8 > end:
            raise Malformed("a packet is malformed", why="an extension header is cut short")
        following, at = packet[at], at + 8 * (packet[at + 1] + 1)
    if following != UDP or at > end:
        raise Malformed("a packet was dropped", why=f"it is not UDP but next header {following}")
    return packet[8:24], packet[24:40], packet[at:end]
