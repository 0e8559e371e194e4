"""What one end of a tunnel knows by the capsules it has read: addresses, routes, requests; and the packets in them."""

from __future__ import annotations

from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.connect_ip.wire.capsules import (
    AddressEntry,
    CapsuleReader,
    CapsuleType,
    Interface,
    read_addresses,
    read_payload,
    read_routes,
)
from zesty_burrow.records import dataclass, field

MAX_ENTRIES = 64
"""Addresses of one end: what nobody needs more of."""


@dataclass(slots=True)
class TunnelEnd:
    """``assigned``: this end's addresses; ``routes``: where the other end carries packets of every protocol to.

    None: nothing was said yet. ``asked``: what the other end asks for; who owns this answers. ``answered``: the IDs of
    our own requests that were answered so far. ``packets``: what came in datagrams; an empty one stands for a context
    that is not known.
    """

    assigned: tuple[Interface, ...] | None = None
    routes: tuple[AddressRange, ...] | None = None
    asked: list[AddressEntry] = field(default_factory=list)
    answered: set[int] = field(default_factory=set)
    packets: list[bytes] = field(default_factory=list)
    reader: CapsuleReader = field(default_factory=CapsuleReader)

    def feed(self, data: bytes) -> bool:
        """Take octets of the stream; whether addresses, routes or requests have come. Raises ``Malformed``."""
        changed = False
        for kind, value in self.reader.feed(data):
            if kind is CapsuleType.DATAGRAM:
                self.packets.append(value[1:] if value[:1] == b"\0" else read_payload(value))
                continue
            changed = True
            if kind is CapsuleType.ADDRESS_ASSIGN:
                entries = read_addresses(value, asked=False)[:MAX_ENTRIES]
                # The capsule holds the whole list (RFC 9484 §4.7.1); what is refused is nobody's address.
                self.assigned = tuple(entry.address for entry in entries if not entry.is_nothing)
                self.answered |= {entry.request for entry in entries}
            elif kind is CapsuleType.ADDRESS_REQUEST:
                self.asked += read_addresses(value, asked=True)[:MAX_ENTRIES]
            else:
                # One that is for a single protocol of IP is no way for packets of all: nothing is sent by it.
                self.routes = tuple(route.range for route in read_routes(value) if not route.protocol)
        return changed

    def take_packets(self) -> list[bytes]:
        """Those that have come since the last time."""
        taken, self.packets = self.packets, []
        return taken


def ranges_of(addresses: tuple[Interface, ...]) -> tuple[AddressRange, ...]:
    """What an end may use as its addresses."""
    return tuple(AddressRange.of(address.network) for address in addresses)
