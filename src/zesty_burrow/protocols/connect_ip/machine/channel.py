"""The packets of a tunnel over HTTP: which may pass, and the queues between the data path and the session."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from zesty_burrow.core.net import AddressRange
from zesty_burrow.protocols.connect_ip.wire.capsules import CapsuleReader, write_packet
from zesty_burrow.records import dataclass

KNOWN_PAIRS = 4096
MOST_HELD = 2 << 20
"""Octets of packets that nobody has taken yet; what comes then is lost, as in any full queue."""


@dataclass(slots=True)
class Counters:
    """Packets and inner octets each way; ``rejected``: what came in and was no packet."""

    packets_in: int = 0
    octets_in: int = 0
    packets_out: int = 0
    octets_out: int = 0
    rejected: int = 0


class HttpChannel:
    """``local``: the addresses of this side; ``remote``: where the other side carries packets to.

    ``room``: the longest packet that can be sent; the session knows. What is :meth:`put` waits in ``going`` until the
    session takes it; what the session has received waits in ``coming`` until somebody takes it.
    """

    wants_rekey = False

    def __init__(self, local: Sequence[AddressRange], remote: Sequence[AddressRange], room: int) -> None:
        self.local, self.remote = tuple(local), tuple(remote)
        self.room = room
        self.revision = 0
        self.last_sent = self.last_received = 0.0
        self.counters = Counters()
        self.going: list[bytes] = []
        self.coming: list[bytes] = []
        self._known: dict[bytes, bool] = {}
        self._held = 0

    def change(self, local: Sequence[AddressRange], remote: Sequence[AddressRange]) -> None:
        """Other addresses or routes than before (RFC 9484 §4.7: each capsule replaces the one before)."""
        self.local, self.remote = tuple(local), tuple(remote)
        self._known.clear()
        self.revision += 1

    def largest_inner(self, room: int) -> int:
        """What the session can send; HTTP/3 tells how much that is, the others take everything."""
        return self.room

    def allows_out(self, addresses: bytes) -> bool:
        """RFC 9484 §7: from an address of ours to where a route was advertised."""
        half = len(addresses) // 2
        return self._allows(addresses[:half], addresses[half:])

    def allows_in(self, addresses: bytes) -> bool:
        """The same for what comes in."""
        known = self._known.get(addresses)
        if known is None:
            half = len(addresses) // 2
            known = half > 0 and self._allows(addresses[half:], addresses[:half])
            if len(self._known) >= KNOWN_PAIRS:
                self._known.clear()
            self._known[addresses] = known
        return known

    def _allows(self, here: bytes, there: bytes) -> bool:
        return any(here in one for one in self.local) and any(there in one for one in self.remote)

    def put(self, packet: bytes, now: float) -> None:
        """Hand a packet to the session."""
        self.going.append(packet)
        self.counters.packets_out += 1
        self.counters.octets_out += len(packet)
        self.last_sent = now

    def take(self) -> list[bytes]:
        """What has come since the last time."""
        taken, self.coming, self._held = self.coming, [], 0
        return taken

    def received(self, packet: bytes, now: float) -> None:
        """For the session: a packet has come."""
        self.received_all((packet,), now)

    def received_all(self, packets: Sequence[bytes], now: float) -> None:
        """For the session: packets have come."""
        counters, held = self.counters, self._held
        for packet in packets:
            size = len(packet)
            if not size:
                counters.rejected += 1
            elif held + size <= MOST_HELD:
                held += size
                self.coming.append(packet)
                counters.packets_in += 1
                counters.octets_in += size
                self.last_received = now
        self._held = held


class CapsuleHttpChannel(HttpChannel):
    """Over a byte stream: what goes out is in capsules already; what comes in may be diverted before it is read."""

    def __init__(self, local: Sequence[AddressRange], remote: Sequence[AddressRange], room: int) -> None:
        super().__init__(local, remote, room)
        self.stream = 0
        self.diverted: Callable[[bytes], bytes] | None = None
        self._reader = CapsuleReader()

    def begin_stream(self, reader: CapsuleReader) -> None:
        """For the session: another stream begins, with its reader."""
        self._reader = reader
        self.stream += 1

    def put(self, packet: bytes, now: float) -> None:
        """Hand a packet to the session."""
        self.going.append(write_packet(packet))
        self.counters.packets_out += 1
        self.counters.octets_out += len(packet)
        self.last_sent = now

    def put_capsules(self, octets: bytes, packets: int, size: int, now: float) -> None:
        """Whole capsules of many packets, with so many octets in these."""
        self.going.append(octets)
        self.counters.packets_out += packets
        self.counters.octets_out += size
        self.last_sent = now

    def divert(self, take: Callable[[bytes], bytes] | None) -> None:
        """Have somebody else read what comes."""
        self.diverted = take

    def take_over(self) -> tuple[bytes, int]:
        """What was begun to be read."""
        return self._reader.hand_over()

    def count_in(self, packets: int, octets: int, now: float) -> None:
        """So many packets have come in."""
        self.counters.packets_in += packets
        self.counters.octets_in += octets
        self.last_received = now
