"""Addresses, ranges of addresses, endpoints and datagrams: what belongs to no protocol in particular."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from zesty_burrow.errors import UsageError
from zesty_burrow.records import dataclass

Address = ipaddress.IPv4Address | ipaddress.IPv6Address
Network = ipaddress.IPv4Network | ipaddress.IPv6Network
TCP, UDP, GRE = 6, 17, 47
"""Protocol numbers (RFC 9293, RFC 768, RFC 2637 §4.1; GRE has no ports)."""
Endpoint = tuple[str, int]
"""An address as text and a port."""


NOWHERE = ipaddress.IPv4Network("0.0.0.0/8"), ipaddress.IPv4Network("240.0.0.0/4")
"""RFC 1122 §3.2.1.3 and RFC 1112 §4: addresses of no host, the limited broadcast address among them."""


def is_host(address: Address) -> bool:
    """Whether an address can be that of another machine: not unspecified, loopback, multicast, broadcast or reserved.

    An IPv4-mapped IPv6 address does not count: it is not for the wire (RFC 4291 §2.5.5.2, RFC 4942 §2.2).
    """
    if address.is_unspecified or address.is_loopback or address.is_multicast:
        return False
    if isinstance(address, ipaddress.IPv6Address):
        return address.ipv4_mapped is None
    return not any(address in one for one in NOWHERE)


class LocalNetwork(NamedTuple):
    """A network that this machine is in, and the device that it is in by."""

    device: str
    network: Network


@dataclass(frozen=True, slots=True)
class Datagram:
    """A UDP datagram to send from ``local_port``."""

    data: bytes
    local_port: int
    destination: Endpoint


@dataclass(frozen=True, slots=True)
class AddressRange:
    """Addresses from ``start`` to ``end``, both included, as octets (RFC 7296 §2.9)."""

    start: bytes
    end: bytes

    @property
    def version(self) -> int:
        """4 or 6."""
        return 4 if len(self.start) == 4 else 6

    def __contains__(self, address: bytes) -> bool:
        return len(address) == len(self.start) and self.start <= address <= self.end

    @classmethod
    def of(cls, network: Network) -> AddressRange:
        """The range of a network."""
        return cls(network.network_address.packed, network.broadcast_address.packed)

    def networks(self) -> list[Network]:
        """The fewest networks that make up the range."""
        first, last = ipaddress.ip_address(self.start), ipaddress.ip_address(self.end)
        return list(ipaddress.summarize_address_range(first, last))

    def within(self, other: AddressRange) -> AddressRange | None:
        """What both ranges have in common."""
        if self.version != other.version:
            return None
        start, end = max(self.start, other.start), min(self.end, other.end)
        return AddressRange(start, end) if start <= end else None


def in_any(ranges: Iterable[AddressRange], address: bytes) -> bool:
    """Whether an address, as octets, is in one of the ranges."""
    return any(address in entry for entry in ranges)


def between(sources: Iterable[AddressRange], destinations: Iterable[AddressRange], addresses: bytes) -> bool:
    """Whether a packet's source and destination, one behind the other as octets, are in these ranges."""
    half = len(addresses) // 2
    return half > 0 and in_any(sources, addresses[:half]) and in_any(destinations, addresses[half:])


def intersect(wanted: Sequence[AddressRange], allowed: Sequence[AddressRange]) -> tuple[AddressRange, ...]:
    """What is in some of ``wanted`` and in some of ``allowed``, in the order of ``wanted``."""
    found = [common for one in wanted for other in allowed if (common := one.within(other))]
    return tuple(dict.fromkeys(found))


def same_families(
    one: Sequence[AddressRange], other: Sequence[AddressRange]
) -> tuple[tuple[AddressRange, ...], tuple[AddressRange, ...]]:
    """Both sides without the ranges of a family that the other side lacks: such a range could carry nothing."""
    shared = {entry.version for entry in one} & {entry.version for entry in other}
    return (
        tuple(entry for entry in one if entry.version in shared),
        tuple(entry for entry in other if entry.version in shared),
    )


def collapse(networks: Iterable[Network]) -> list[Network]:
    """The fewest networks that cover the same addresses, IPv4 first."""
    known = list(networks)
    found: list[Network] = []
    found += ipaddress.collapse_addresses(one for one in known if isinstance(one, ipaddress.IPv4Network))
    found += ipaddress.collapse_addresses(one for one in known if isinstance(one, ipaddress.IPv6Network))
    return found


def network_list(what: str, words: str) -> tuple[Network, ...]:
    """Networks with commas between them, from words that somebody has typed. ``UsageError`` begins with ``what``."""
    try:
        return tuple(ipaddress.ip_network(part.strip()) for part in words.split(",") if part.strip())
    except ValueError as problem:
        raise UsageError(f"{what}: {problem}", next_step="For example 10.20.0.0/16.") from None


def covers(ranges: Iterable[AddressRange], network: Network) -> bool:
    """Whether each address of a network is in one of the ranges, which may be in any order and overlap."""
    wanted = AddressRange.of(network)
    at = wanted.start
    for one in sorted((entry for entry in ranges if entry.version == network.version), key=lambda entry: entry.start):
        if one.start > at:
            return False
        if one.end >= wanted.end:
            return True
        if one.end >= at:
            at = (int.from_bytes(one.end) + 1).to_bytes(len(at))
    return False
