"""A tunnel as the data path sees it: pairs of ESP SAs, what may travel in them, and the way to the peer."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.carrier.port import UdpPort
from zesty_burrow.core.esp.association import InboundSa, OutboundSa, largest_inner
from zesty_burrow.core.ike.events import ChildEstablished, Endpoint
from zesty_burrow.core.ip import AddressRange
from zesty_burrow.core.protection import Random
from zesty_burrow.core.too_big import LEAST_IPV4
from zesty_burrow.host.movement import way_mtu

KNOWN_PAIRS = 4096
IPV4_AND_UDP, IPV6_AND_UDP = 28, 48


class Flow:
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
        self._known: dict[bytes, bool] = {}

    @classmethod
    def of(cls, child: ChildEstablished, local: Sequence[AddressRange], random: Random) -> Flow:
        """What a child SA stands for."""
        outbound = OutboundSa(child.spi_out, child.outbound(random), extended=child.extended)
        inbound = InboundSa(child.spi_in, child.inbound(random), extended=child.extended)
        return cls(outbound, inbound, local, child.remote)

    def lets_out(self, source: bytes, destination: bytes) -> bool:
        """RFC 4301 §5.1: what the selectors do not cover is dropped, never sent in the clear."""
        return _in_any(self.local, source) and _in_any(self.remote, destination)

    def lets_in(self, addresses: bytes) -> bool:
        """RFC 4301 §5.2: the selectors hold for what comes in as well; ``addresses``: source and destination."""
        known = self._known.get(addresses)
        if known is None:
            half = len(addresses) // 2
            source, destination = addresses[:half], addresses[half:]
            known = half > 0 and _in_any(self.remote, source) and _in_any(self.local, destination)
            if len(self._known) >= KNOWN_PAIRS:
                self._known.clear()
            self._known[addresses] = known
        return known


def _in_any(ranges: Sequence[AddressRange], address: bytes) -> bool:
    return any(address in entry for entry in ranges)


class Tunnel:
    """While keys are renewed there is more than one pair of SAs: packets come in by their SPI, and go out by one.

    ``peer``: where ESP goes to, through ``port``. ``limit``: the longest inner packet that the way takes.
    """

    def __init__(self, flow: Flow, port: UdpPort, peer: Endpoint, limit: int = 65535) -> None:
        self.flow = flow
        self.flows = {flow.inbound.spi: flow}
        self.port = port
        self.peer = peer
        self.limit = limit
        self._waiting: Flow | None = None

    def measure(self) -> int:
        """Look what the way to the peer takes now, and keep to it (RFC 4301 §8.2); the longest inner packet."""
        most = way_mtu(self.peer[0])
        if most:
            room = most - (IPV6_AND_UDP if ":" in self.peer[0] else IPV4_AND_UDP)
            self.limit = max(largest_inner(room, self.flow.outbound.protection), LEAST_IPV4)
        return self.limit

    def add(self, flow: Flow, *, by_peer: bool) -> None:
        """Another pair in place of the one in use; where the peer asked for it, once the peer uses it."""
        self.flows[flow.inbound.spi] = flow
        if by_peer:
            self._waiting = flow
        else:
            self._use(flow)

    def restart(self, flow: Flow, port: UdpPort, peer: Endpoint) -> None:
        """A tunnel that was lost stands anew; the counters go on."""
        self.flows = {flow.inbound.spi: flow}
        self.port, self.peer = port, peer
        self._use(flow)

    def go_over(self, flow: Flow, port: UdpPort, peer: Endpoint) -> None:
        """To the SAs of another IKE SA; by the old ones packets still come in until they are dropped."""
        self.flows[flow.inbound.spi] = flow
        self.port, self.peer = port, peer
        self._use(flow)

    def drop(self, spi: int) -> None:
        """A pair that is not used any more; whoever waits for the peer's first packet waits no longer."""
        gone = self.flows.pop(spi, None)
        if gone is self._waiting:
            self._waiting = None
        if gone is self.flow and self._waiting is not None:
            self._use(self._waiting)

    def heard(self, flow: Flow) -> None:
        """An authentic packet has come by this pair."""
        if flow is self._waiting:
            self._use(flow)

    def _use(self, flow: Flow) -> None:
        flow.outbound.counters, flow.inbound.counters = self.flow.outbound.counters, self.flow.inbound.counters
        self.flow, self._waiting = flow, None
