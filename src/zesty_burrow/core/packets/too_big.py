"""Packets that are longer than the way through a tunnel takes (RFC 4301 §8): told to their sender, or cut."""

from __future__ import annotations

from zesty_burrow.core.packets.checksum import checksum, word_sum

LEAST_IPV4, LEAST_IPV6 = 576, 1280
"""A claim below this is ignored (RFC 1122 §3.3.3, RFC 8200 §5)."""
_DONT_FRAGMENT, _MORE = 0x4000, 0x2000
_ICMP, _ICMPV6 = 1, 58
_QUOTED4, _QUOTED6 = 548, 1232


def too_big(packet: bytes, mtu: int) -> bytes | None:
    """The message to a packet's sender; None where none is due.

    "Fragmentation needed" (RFC 792, RFC 1191 §4) or "packet too big" (RFC 4443 §3.2). None is due for errors, for
    all fragments but the first, and where nobody could be told (RFC 1122 §3.2.2, RFC 4443 §2.4). It comes from where
    the packet goes to: an address of this machine's own would not be believed by the machine itself.
    """
    if packet and packet[0] >> 4 == 4 and len(packet) >= 20:
        return _too_big4(packet, max(mtu, 68))
    if packet and packet[0] >> 4 == 6 and len(packet) >= 40:
        return _too_big6(packet, max(mtu, LEAST_IPV6))
    return None


def _too_big4(packet: bytes, mtu: int) -> bytes | None:
    size = (packet[0] & 0xF) * 4
    offset = int.from_bytes(packet[6:8]) & 0x1FFF
    is_error = packet[9] == _ICMP and packet[size : size + 1] not in (b"\0", b"\x08")
    sender, target = packet[12:16], packet[16:20]
    if offset or is_error or sender == bytes(4) or sender[0] >= 224 or target[0] >= 224:
        return None
    body = b"\x03\x04\0\0\0\0" + mtu.to_bytes(2) + packet[:_QUOTED4]
    body = body[:2] + checksum(body).to_bytes(2) + body[4:]
    head = bytes((0x45, 0xC0)) + (20 + len(body)).to_bytes(2) + bytes(4) + bytes((64, _ICMP, 0, 0)) + target + sender
    return head[:10] + checksum(head).to_bytes(2) + head[12:] + body


def _too_big6(packet: bytes, mtu: int) -> bytes | None:
    sender, target = packet[8:24], packet[24:40]
    is_error = packet[6] == _ICMPV6 and packet[40:41] < b"\x80"
    if is_error or sender == bytes(16) or sender[0] == 0xFF or target[0] == 0xFF:
        return None
    body = b"\x02\0\0\0" + mtu.to_bytes(4) + packet[:_QUOTED6]
    sums = word_sum(target + sender) + len(body) + _ICMPV6 + word_sum(body)
    body = body[:2] + (0xFFFF - (sums % 0xFFFF or 0xFFFF)).to_bytes(2) + body[4:]
    return b"\x60\0\0\0" + len(body).to_bytes(2) + bytes((_ICMPV6, 64)) + target + sender + body


def may_be_cut(packet: bytes) -> bool:
    """Whether its sender allows to cut it on the way: IPv4 without the don't-fragment bit."""
    return len(packet) >= 20 and packet[0] >> 4 == 4 and not packet[6] & 0x40


def cut(packet: bytes, mtu: int) -> list[bytes]:
    """An IPv4 packet in fragments of at most ``mtu`` octets (RFC 791 §3.2). Options stand in the first, and where
    their copied flag says so in all (§3.1)."""
    size = (packet[0] & 0xF) * 4
    data = packet[size : int.from_bytes(packet[2:4])]
    field = int.from_bytes(packet[6:8])
    first, others = packet[:size], packet[:20] + _copied(packet[20:size])
    found, begin = [], 0
    while begin < len(data):
        head = others if begin else first
        step = (mtu - len(head)) & ~7
        part = data[begin : begin + step]
        more = _MORE if begin + step < len(data) else field & _MORE
        applied = (field & 0x1FFF) + begin // 8 | more
        whole = bytes((0x40 | len(head) // 4, head[1])) + (len(head) + len(part)).to_bytes(2) + head[4:6]
        whole += applied.to_bytes(2) + head[8:10] + b"\0\0" + head[12:]
        found.append(whole[:10] + checksum(whole).to_bytes(2) + whole[12:] + part)
        begin += step
    return found


def _copied(options: bytes) -> bytes:
    """The options that every fragment carries, filled up to whole words."""
    kept, place = b"", 0
    while place < len(options) and options[place]:
        size = 1 if options[place] == 1 else max(options[place + 1] if place + 1 < len(options) else 1, 1)
        if options[place] & 0x80:
            kept += options[place : place + size]
        place += size
    return kept + bytes(-len(kept) % 4)
