"""Splits what the kernel hands over in one piece into the packets that the sender's own stack would have sent.

TCP and UDP of both families (RFC 9293 §3.7, RFC 768): each segment has its own lengths, sequence number, flags and
checksums; PSH and FIN stand on the last alone, CWR on the first alone (RFC 3168 §6.1.2).
"""

from __future__ import annotations

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.packets import offload_header
from zesty_burrow.core.packets.checksum import checksum, word_sum
from zesty_burrow.core.packets.offload_header import Offload
from zesty_burrow.errors import Malformed

TCP_HEADER, UDP_HEADER = 20, 8
FIN, PSH, CWR = 0x01, 0x08, 0x80
UDP_PLACE = 6
"""Of the checksum in a UDP header, where 0 stands for none (RFC 768)."""
MAX_HEADERS, MAX_LENGTH = 120, 0xFFFF + 40


def packets_of(packet: bytes, offload: Offload | None) -> list[bytes]:
    """What one read from a tunnel device comes to: whole packets with whole checksums. Raises :class:`Malformed`."""
    if offload is None:
        return [packet]
    return split(packet, offload) if offload.kind else [finish_checksum(packet, offload)]


def finish_checksum(packet: bytes, offload: Offload) -> bytes:
    """Put the checksum in that the kernel has left to the device: its field holds the pseudo-header's sum."""
    field = offload.start + offload.place
    if field + 2 > len(packet):
        raise Malformed("a packet's checksum cannot be finished", why="its place is behind the packet's end")
    value = checksum(packet[offload.start :])
    if value == 0 and offload.place == UDP_PLACE:
        value = 0xFFFF
    return packet[:field] + value.to_bytes(2) + packet[field + 2 :]


def split(packet: bytes, offload: Offload) -> list[bytes]:
    """The segments of a packet; :class:`Malformed` where the kernel's word and the packet disagree."""
    version, protocol, headers = _shape(packet, offload)
    size, transport = offload.size, offload.start
    check = transport + (16 if protocol == TCP else UDP_PLACE)
    # The kernel has left the pseudo-header's sum, length included, in the checksum's place.
    pseudo = int.from_bytes(packet[check : check + 2]) - (len(packet) - transport)
    last = (len(packet) - headers - 1) // size
    found = []
    for index in range(last + 1):
        begin = headers + index * size
        segment = bytearray(packet[:headers] + packet[begin : begin + size])
        length = len(segment)
        if version == 4:
            # Identification counts up (RFC 6864 §4).
            number = (int.from_bytes(packet[4:6]) + index) & 0xFFFF
            segment[2:6] = length.to_bytes(2) + number.to_bytes(2)
            segment[10:12] = b"\0\0"
            segment[10:12] = checksum(segment[:transport]).to_bytes(2)
        else:
            segment[4:6] = (length - 40).to_bytes(2)
        if protocol == TCP:
            place = transport + 4
            sequence = int.from_bytes(packet[place : place + 4]) + index * size
            segment[place : place + 4] = (sequence & 0xFFFFFFFF).to_bytes(4)
            kept = 0xFF & ~((FIN | PSH if index < last else 0) | (CWR if index else 0))
            segment[transport + 13] &= kept
        else:
            segment[transport + 4 : transport + 6] = (length - transport).to_bytes(2)
        segment[check : check + 2] = b"\0\0"
        sums = (word_sum(segment[transport:]) + pseudo + length - transport) % 0xFFFF or 0xFFFF
        value = 0xFFFF - sums
        segment[check : check + 2] = (0xFFFF if not value and protocol == UDP else value).to_bytes(2)
        found.append(bytes(segment))
    return found


def _shape(packet: bytes, offload: Offload) -> tuple[int, int, int]:
    """IP version, protocol, and where the payload begins."""
    version = packet[0] >> 4 if packet else 0
    protocol = UDP if offload.kind == offload_header.UDP else TCP
    kinds = {offload_header.TCP4: 4, offload_header.TCP6: 6, offload_header.UDP: version}
    right = kinds.get(offload.kind & ~offload_header.ECN)
    if right != version or version not in (4, 6) or not offload.size:
        raise Malformed("a packet cannot be split", why=f"its kind is {offload.kind}, its IP version {version}")
    transport, least = offload.start, offload.start + (TCP_HEADER if protocol == TCP else UDP_HEADER)
    least_transport = 20 if version == 4 else 40
    if transport < least_transport or transport & 3 or least > min(len(packet), MAX_HEADERS):
        raise Malformed("a packet cannot be split", why=f"{len(packet)} octets, a transport header at {transport}")
    headers = transport + (packet[transport + 12] >> 4) * 4 if protocol == TCP else least
    if not least <= headers < len(packet) or len(packet) > MAX_LENGTH:
        raise Malformed("a packet cannot be split", why=f"its headers end at {headers} of {len(packet)}")
    return version, protocol, headers
