"""Octets that a local network's router, or somebody who plays it, sends. Values only.

Router advertisements (RFC 4861 §4.2) with routes (RFC 4191 §2.3); claims to an address by ARP (RFC 826) and by
neighbour advertisements (RFC 4861 §4.4); "too big" (RFC 792, RFC 1191; RFC 4443 §3.2).
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from ipaddress import IPv4Address, IPv6Address, IPv6Network

ROUTER_ADVERTISEMENT, NEIGHBOUR_ADVERTISEMENT = 134, 136
ROUTE_INFORMATION, TARGET_HARDWARE = 24, 2
HIGH_PREFERENCE = 0x08
OVERRIDE = 0x20
EVERYBODY = b"\xff" * 6
ARP_TYPE, IPV4_TYPE, IPV6_TYPE = 0x0806, 0x0800, 0x86DD
ICMP, UDP, ICMPV6 = 1, 17, 58
ETHERNET = 14


def router_advertisement(routes: Iterable[IPv6Network], lifetime: int) -> bytes:
    """An ICMPv6 message whose checksum the kernel fills in. The router is no default router; 0 takes routes back."""
    body = struct.pack(">BBHBBHII", ROUTER_ADVERTISEMENT, 0, 0, 64, 0, 0, 0, 0)
    for network in routes:
        # Always with the whole prefix: three units of eight octets.
        body += struct.pack(">BBBBI", ROUTE_INFORMATION, 3, network.prefixlen, HIGH_PREFERENCE, lifetime)
        body += network.network_address.packed
    return body


def arp_claim(address: IPv4Address, hardware: bytes, to_address: IPv4Address, to_hardware: bytes = EVERYBODY) -> bytes:
    """A frame: an ARP reply that says who has an address."""
    return (
        to_hardware
        + hardware
        + struct.pack(">HHHBBH", ARP_TYPE, 1, IPV4_TYPE, 6, 4, 2)
        + hardware
        + address.packed
        + to_hardware
        + to_address.packed
    )


def neighbour_claim(address: IPv6Address, hardware: bytes) -> bytes:
    """An unsolicited neighbour advertisement that overrides what is known, its checksum for the kernel to fill in."""
    head = struct.pack(">BBHB3x", NEIGHBOUR_ADVERTISEMENT, 0, 0, OVERRIDE)
    return head + address.packed + bytes((TARGET_HARDWARE, 1)) + hardware


def too_big(packet: bytes, size: int, sender: IPv4Address) -> bytes:
    """An ICMP message (with its IPv4 header) that says that a packet was too big, and what passes (RFC 1191 §4)."""
    quoted = packet[:28]
    message = struct.pack(">BBHHH", 3, 4, 0, 0, size) + quoted
    message = message[:2] + _checksum(message) + message[4:]
    head = struct.pack(">BBHHHBBH", 0x45, 0, 20 + len(message), 0, 0, 64, ICMP, 0) + sender.packed + packet[12:16]
    return head[:10] + _checksum(head) + head[12:] + message


def _checksum(data: bytes) -> bytes:
    """RFC 1071, of an even number of octets."""
    total: int = sum(struct.unpack(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return (~total & 0xFFFF).to_bytes(2)
