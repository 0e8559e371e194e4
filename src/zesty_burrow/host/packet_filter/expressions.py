"""What a rule of the packet filter is made of: comparisons, and what is done with a packet for which they hold.

Numbers are those of the kernel's public header linux/netfilter/nf_tables.h.
"""

from __future__ import annotations

import socket
import sys
from functools import cache, lru_cache

from zesty_burrow.core.net import Address, Network
from zesty_burrow.host.netlink_messages import attribute, nest, text
from zesty_burrow.host.packet_filter.messages import IPV4, IPV6, number

REGISTER = 1
FRAME_TYPE, MARK, IN_DEVICE, OUT_DEVICE, USER, FAMILY, PROTOCOL = 1, 3, 6, 7, 10, 15, 16
"""Of a packet, not of its octets (NFT_META_...)."""
LINK_HEADER, NETWORK_HEADER, TRANSPORT_HEADER = 0, 1, 2
EQUAL, NOT_EQUAL, AT_MOST, AT_LEAST = 0, 1, 3, 5
"""Comparisons (NFT_CMP_...)."""
IPPROTO_FRAGMENT = 44
ACCEPT, DROP, CONTINUE, JUMP, GOTO, RETURN = 1, 0, -1, -3, -4, -5
COUNTER = 1
ADMIN_PROHIBITED = 3
"""Of NFT_REJECT_ICMPX_UNREACH: RFC 1812 §5.2.7.1, RFC 4443 §3.1."""
DEVICE_NAME = 16


def expression(name: str, *parts: bytes) -> bytes:
    """One step of a rule."""
    return nest(1, text(1, name), nest(2, *parts))


@lru_cache(maxsize=8192)
def compared(how: int, value: bytes) -> bytes:
    """What was loaded last is equal to a value, or differs, or is not above or not below it."""
    return expression("cmp", number(1, REGISTER), number(2, how), nest(3, attribute(1, value)))


def _equals(value: bytes) -> bytes:
    return compared(EQUAL, value)


@lru_cache(maxsize=8192)
def about(key: int, value: bytes) -> bytes:
    """The packet has this mark, device, family, ..."""
    return expression("meta", number(1, REGISTER), number(2, key)) + _equals(value)


def by_device(name: str, key: int = OUT_DEVICE) -> bytes:
    """It leaves by this device."""
    return about(key, name.encode().ljust(DEVICE_NAME, b"\0"))


def native(value: int) -> bytes:
    """A number as the kernel has it in a register of its own."""
    return value.to_bytes(4, sys.byteorder)


@lru_cache(maxsize=8192)
def _masked(mask: bytes) -> bytes:
    return expression(
        "bitwise",
        number(1, REGISTER),
        number(2, REGISTER),
        number(3, len(mask)),
        nest(4, attribute(1, mask)),
        nest(5, attribute(1, bytes(len(mask)))),
    )


@lru_cache(maxsize=8192)
def octets_are(base: int, offset: int, value: bytes, mask: bytes = b"", how: int = EQUAL) -> bytes:
    """Octets of a header are these, in the bits of the mask. A packet that lacks these octets does not match."""
    load = expression("payload", number(1, REGISTER), number(2, base), number(3, offset), number(4, len(value)))
    return load + (_masked(mask) if mask else b"") + compared(how, value)


def of_version(version: int) -> bytes:
    """It is IPv4, or IPv6."""
    return about(FAMILY, bytes([IPV4 if version == 4 else IPV6]))


def destination(network: Network | Address) -> bytes:
    """Its destination is an address, or is in a network; for packets of that version of IP alone."""
    offset = 16 if network.version == 4 else 24
    if not isinstance(network, Address):
        if network.prefixlen == 0:
            return b""
        if network.prefixlen < network.max_prefixlen:
            mask = network.netmask.packed
            return octets_are(NETWORK_HEADER, offset, network.network_address.packed, mask)
        network = network.network_address
    return octets_are(NETWORK_HEADER, offset, network.packed)


def towards(network: Network | Address) -> bytes:
    """Its destination is an address, or is in a network."""
    return of_version(network.version) + destination(network)


@cache
def of_protocol(protocol: int) -> bytes:
    """Its transport protocol (IANA's number)."""
    return about(PROTOCOL, bytes([protocol]))


@cache
def to_port(protocol: int, port: int) -> bytes:
    """It is UDP or TCP to a port; 0: to any, or another protocol, which has none."""
    return of_protocol(protocol) + (octets_are(TRANSPORT_HEADER, 2, port.to_bytes(2)) if port else b"")


def between_ports(protocol: int, source: int, destination: int) -> bytes:
    """It is UDP or TCP from a port to a port."""
    return of_protocol(protocol) + octets_are(TRANSPORT_HEADER, 0, source.to_bytes(2) + destination.to_bytes(2))


def from_port(protocol: int, port: int) -> bytes:
    """It is UDP or TCP from a port."""
    return of_protocol(protocol) + octets_are(TRANSPORT_HEADER, 0, port.to_bytes(2))


@cache
def not_of_protocol(protocol: int) -> bytes:
    """Its transport protocol is known, and another one."""
    return expression("meta", number(1, REGISTER), number(2, PROTOCOL)) + compared(NOT_EQUAL, bytes([protocol]))


@cache
def has_ports(protocol: int) -> bytes:
    """It is UDP or TCP, and its ports are in it: not so in a fragment without them."""
    return of_protocol(protocol) + octets_are(TRANSPORT_HEADER, 0, bytes(4), how=AT_LEAST)


@cache
def later_fragment(version: int) -> bytes:
    """It is a fragment other than the first one (RFC 791 §3.1, RFC 8200 §4.5)."""
    if version == 4:
        return octets_are(NETWORK_HEADER, 6, bytes(2), b"\x1f\xff", NOT_EQUAL)
    header = expression(
        "exthdr", number(1, REGISTER), attribute(2, bytes([IPPROTO_FRAGMENT])), number(3, 2), number(4, 2)
    )
    return header + _masked(b"\xff\xf8") + compared(NOT_EQUAL, bytes(2))


def icmpv6(kind: int) -> bytes:
    """It is an ICMPv6 message of a kind; for IPv6 packets alone."""
    return of_protocol(socket.IPPROTO_ICMPV6) + octets_are(TRANSPORT_HEADER, 0, bytes([kind]))


def hop_limit(value: int) -> bytes:
    """Of an IPv6 packet."""
    return octets_are(NETWORK_HEADER, 7, bytes([value]))


def user_is(user: int) -> bytes:
    """The process that has opened its socket is of this user, and in the packet filter's own network namespace."""
    return about(USER, native(user))


@cache
def socket_mark(value: int) -> bytes:
    """Its socket has this mark, whatever other rules have made of the packet's own (where programs send, alone)."""
    return expression("socket", number(1, 1), number(2, REGISTER)) + compared(EQUAL, native(value))


def user_in(set_name: str) -> bytes:
    """The user whose process has sent it is in a set."""
    return expression("meta", number(1, REGISTER), number(2, USER)) + expression(
        "lookup", text(1, set_name), number(2, REGISTER)
    )


def frame_type(value: int, offset: int = 12) -> bytes:
    """The type in the octets of an Ethernet frame (IEEE 802.3)."""
    return octets_are(LINK_HEADER, offset, value.to_bytes(2))


def of_frame_type(value: int) -> bytes:
    """The type that the sender's socket gave the frame: by it the kernel finds the network header."""
    return about(FRAME_TYPE, value.to_bytes(2))


@cache
def count(name: str) -> bytes:
    """Count it by a counter that has a name."""
    return expression("objref", number(1, COUNTER), text(2, name))


@cache
def verdict(code: int, chain: str = "") -> bytes:
    """What becomes of it: ACCEPT, DROP, or JUMP or GOTO to a chain."""
    parts = [number(1, code), *([text(2, chain)] if chain else [])]
    return expression("immediate", number(1, 0), nest(2, nest(2, *parts)))


@cache
def reject() -> bytes:
    """Turn it away, with an answer that says that it is not allowed."""
    return expression("reject", number(1, 2), number(2, ADMIN_PROHIBITED, 1))


@cache
def reset() -> bytes:
    return expression("reject", number(1, 1), number(2, 0, 1))
