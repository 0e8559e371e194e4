"""Messages of DHCP (RFC 2131, RFC 2132, RFC 3442) as octets. Values only."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Mapping
from ipaddress import IPv4Address, IPv4Network

from zesty_burrow.records import dataclass, field

SERVER_PORT, CLIENT_PORT = 67, 68
REQUEST, REPLY = 1, 2
DISCOVER, OFFER, ASK, ACKNOWLEDGE = 1, 2, 3, 5
"""DHCPDISCOVER, DHCPOFFER, DHCPREQUEST and DHCPACK (RFC 2132 §9.6)."""
MASK, ROUTER, RESOLVERS, WANTED, LEASE, KIND, SERVER, PARAMETERS, ROUTES = 1, 3, 6, 50, 51, 53, 54, 55, 121
"""Options (RFC 2132; 121 is RFC 3442's)."""
PAD, END = 0, 255
ETHERNET, MAC = 1, 6
COOKIE = bytes((99, 130, 83, 99))
BROADCAST_FLAG = 0x8000
FIXED = struct.Struct(">BBBBIHH4s4s4s4s16s64s128s")
MAX_OPTION = 255

Routes = tuple[tuple[IPv4Network, IPv4Address], ...]
"""Destinations, each with its router."""


@dataclass(frozen=True, slots=True)
class DhcpMessage:
    """``operation``: REQUEST or REPLY; ``hardware``: the client's MAC; ``given``: the address it is to have."""

    operation: int
    transaction: int
    hardware: bytes
    options: Mapping[int, bytes]
    given: IPv4Address = field(default=IPv4Address(0))

    @property
    def kind(self) -> int:
        """DISCOVER, OFFER, ... (RFC 2132 §9.6); 0 where it says none."""
        return int.from_bytes(self.options.get(KIND, b"")[:1])


def encode(message: DhcpMessage) -> bytes:
    """As RFC 2131 §2 has it; an option of more than 255 octets is split (RFC 3396)."""
    head = FIXED.pack(
        message.operation,
        ETHERNET,
        MAC,
        0,
        message.transaction,
        0,
        BROADCAST_FLAG,
        bytes(4),
        message.given.packed,
        bytes(4),
        bytes(4),
        message.hardware.ljust(16, b"\0"),
        b"",
        b"",
    )
    body = b""
    for kind, value in message.options.items():
        for start in range(0, max(len(value), 1), MAX_OPTION):
            part = value[start : start + MAX_OPTION]
            body += bytes((kind, len(part))) + part
    return head + COOKIE + body + bytes((END,))


def decode_untrusted(data: bytes) -> DhcpMessage | None:
    """None where it is no message of DHCP."""
    if len(data) < FIXED.size + len(COOKIE) or data[FIXED.size : FIXED.size + 4] != COOKIE:
        return None
    operation, hardware_kind, size, _, transaction, _, _, _, given, _, _, hardware, _, _ = FIXED.unpack_from(data)
    if operation not in (REQUEST, REPLY) or hardware_kind != ETHERNET or size != MAC:
        return None
    options: dict[int, bytes] = {}
    rest = data[FIXED.size + 4 :]
    while rest and rest[0] != END:
        if rest[0] == PAD:
            rest = rest[1:]
            continue
        if len(rest) < 2 or len(rest) < 2 + rest[1]:
            return None
        options[rest[0]] = options.get(rest[0], b"") + rest[2 : 2 + rest[1]]
        rest = rest[2 + rest[1] :]
    return DhcpMessage(operation, transaction, hardware[:MAC], options, IPv4Address(given))


def addresses(value: bytes) -> list[IPv4Address]:
    """Of an option that is a list of addresses; what is cut short is left out."""
    return [IPv4Address(value[start : start + 4]) for start in range(0, len(value) - 3, 4)]


def encode_routes(routes: Iterable[tuple[IPv4Network, IPv4Address]]) -> bytes:
    """Option 121 (RFC 3442): the width of each prefix, only its octets that count, and the router."""
    value = b""
    for network, router in routes:
        significant = -(-network.prefixlen // 8)
        value += bytes((network.prefixlen,)) + network.network_address.packed[:significant] + router.packed
    return value


def decode_routes_untrusted(value: bytes) -> Routes:
    """The routes of option 121; nothing of one that does not keep to RFC 3442."""
    found = []
    while value:
        width, significant = value[0], -(-value[0] // 8)
        if width > 32 or len(value) < 1 + significant + 4:
            return ()
        packed = value[1 : 1 + significant].ljust(4, b"\0")
        router = IPv4Address(value[1 + significant : 5 + significant])
        found.append((IPv4Network((packed, width), strict=False), router))
        value = value[5 + significant :]
    return tuple(found)
