"""The packet channel of ESP: pairs of SAs under which packets are sealed and opened, and what may travel in them."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.esp.sa import HEADER, InboundSa, OutboundSa, largest_inner
from zesty_burrow.core.net import AddressRange, between
from zesty_burrow.records import dataclass

KNOWN_PAIRS = 4096
"""Pairs of addresses that are remembered."""
Ranges = tuple[Sequence[AddressRange], Sequence[AddressRange]]
"""Of this side and of the remote one."""


@dataclass(slots=True)
class Counters:
    """Packets and inner octets each way, and packets that were rejected."""

    packets_in: int = 0
    octets_in: int = 0
    packets_out: int = 0
    octets_out: int = 0
    rejected: int = 0

    def add(self, pair: SaPair) -> None:
        """What a pair of SAs has counted."""
        inbound, outbound = pair.inbound.state, pair.outbound.state
        self.packets_in += inbound.packets
        self.octets_in += inbound.octets
        self.rejected += inbound.rejected
        self.packets_out += outbound.packets
        self.octets_out += outbound.octets


class SaPair:
    """A pair of SAs and what may travel in it: ``local`` and ``remote`` as the traffic selectors say."""

    def __init__(
        self,
        outbound: OutboundSa,
        inbound: InboundSa,
        local: Sequence[AddressRange],
        remote: Sequence[AddressRange],
    ) -> None:
        self.outbound, self.inbound = outbound, inbound
        self.local, self.remote = tuple(local), tuple(remote)
        self.allowed_in: dict[bytes, bool] = {}

    def allows_out(self, addresses: bytes) -> bool:
        """RFC 4301 §5.1, by source and destination: what the selectors do not cover is dropped, never sent in clear."""
        return between(self.local, self.remote, addresses)

    def allows_in(self, addresses: bytes) -> bool:
        """RFC 4301 §5.2: the selectors hold for what comes in as well; ``addresses``: source and destination."""
        known = self.allowed_in.get(addresses)
        if known is None:
            known = between(self.remote, self.local, addresses)
            if len(self.allowed_in) >= KNOWN_PAIRS:
                self.allowed_in.clear()
            self.allowed_in[addresses] = known
        return known


class EspChannel:
    """While keys are renewed there is more than one pair of SAs: packets come in by their SPI, and go out by one.

    ``current``: the pair by which packets go out. ``pairs``: all of them by the inbound SPI. ``waiting``: a pair that
    the peer has asked for, by which packets go out once the peer has used it. ``revision`` rises whenever any of these
    changes. ``last_sent``, ``last_received``: seconds of the caller's clock; what came in was authentic.
    ``octet_limit``, ``number_limit``: how much may go out under one key before :attr:`wants_rekey` is true.
    """

    def __init__(self, pair: SaPair) -> None:
        self.current = pair
        self.pairs = {pair.inbound.spi: pair}
        self.waiting: SaPair | None = None
        self.revision = 0
        self.last_sent = self.last_received = 0.0
        self.octet_limit, self.number_limit = 1 << 62, 1 << 62
        self._retired = Counters()

    @property
    def labels(self) -> frozenset[bytes]:
        """The first four octets of the datagrams that :meth:`open` takes: the inbound SPIs."""
        return frozenset(spi.to_bytes(4) for spi in self.pairs)

    @property
    def counters(self) -> Counters:
        """Over all SAs that this channel has had."""
        total = Counters(**{name: getattr(self._retired, name) for name in Counters.__slots__})
        for pair in self.pairs.values():
            total.add(pair)
        return total

    @property
    def wants_rekey(self) -> bool:
        """Whether the current key has been used for as much as it may (RFC 4303 §3.3.3, RFC 7296 §2.8)."""
        outbound = self.current.outbound
        worn = outbound.state.sequence >= self.number_limit and not outbound.extended
        return worn or bool(outbound.state.octets >= self.octet_limit)

    def largest_inner(self, room: int) -> int:
        """The longest inner packet whose datagram has at most ``room`` octets of UDP payload."""
        return largest_inner(room, self.current.outbound.protection)

    @property
    def overhead(self) -> int:
        """Octets that sealing adds at least."""
        return HEADER + self.current.outbound.protection.overhead + 2

    def ranges_of(self, pair: SaPair) -> Ranges:
        """What may travel in a pair of SAs."""
        return pair.local, pair.remote

    def front_out(self) -> bytes | None:
        """What is between ESP and each packet that goes out; None where it is not always the same."""
        return b""

    def front_in(self) -> bytes | None:
        """The same for those that come in."""
        return b""

    def allows_out(self, addresses: bytes) -> bool:
        """Whether a packet with these addresses, source and destination, may go out here."""
        return self.current.allows_out(addresses)

    def allows_in(self, label: bytes, addresses: bytes) -> bool:
        """Whether a packet with these addresses may come in by the SA of this label."""
        pair = self.pairs.get(int.from_bytes(label))
        return pair is not None and (pair.allowed_in.get(addresses, False) or pair.allows_in(addresses))

    def seal(self, packet: bytes, now: float) -> bytes:
        """The ESP packet around an inner packet."""
        self.last_sent = now
        return self.current.outbound.seal(packet)

    def open(self, data: bytes, now: float) -> bytes:
        """The inner packet of an ESP packet, empty for a dummy; :class:`Malformed` where it is not authentic."""
        pair = self.pairs[int.from_bytes(data[:4])]
        packet = pair.inbound.open(data)
        self.last_received = now
        if pair is self.waiting:
            self._use(pair)
        return packet

    def add(self, pair: SaPair, *, by_peer: bool) -> None:
        """Another pair in place of the current one; where the peer asked for it, once the peer uses it."""
        self.pairs[pair.inbound.spi] = pair
        if by_peer:
            self.waiting = pair
            self.revision += 1
        else:
            self._use(pair)

    def use_waiting(self) -> None:
        """The peer has the pair that waits, whether or not a packet of it has come yet."""
        if self.waiting is not None:
            self._use(self.waiting)

    def remove(self, spi: int) -> None:
        """A pair, by its inbound SPI, that is not used any more; a pair that waits for the peer waits no longer."""
        gone = self.pairs.pop(spi, None)
        if gone is None:
            return
        self._retired.add(gone)
        self.revision += 1
        if gone is self.waiting:
            self.waiting = None
        if gone is self.current and self.waiting is not None:
            self._use(self.waiting)

    def replace_all(self, pair: SaPair) -> None:
        """The tunnel was lost and is up again: only this pair is left."""
        for gone in self.pairs.values():
            self._retired.add(gone)
        self.pairs = {pair.inbound.spi: pair}
        self._use(pair)

    def _use(self, pair: SaPair) -> None:
        self.current, self.waiting = pair, None
        self.revision += 1
