"""The data path: packets between the tunnel device and ESP in UDP (RFC 3948).

The seam is narrow on purpose: :meth:`outbound_ready` when the device has packets, :meth:`inbound` for each ESP
datagram, and the counters. This one moves a packet at a time.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass

from zesty_burrow.core.esp.association import InboundSa, OutboundSa
from zesty_burrow.core.ip import AddressRange, destination, source
from zesty_burrow.errors import Malformed

BATCH = 64
MAX_PACKET = 65535


@dataclass(frozen=True, slots=True)
class Flow:
    """A pair of SAs and what may travel in it: ``local`` and ``remote`` as the traffic selectors say."""

    outbound: OutboundSa
    inbound: InboundSa
    local: tuple[AddressRange, ...]
    remote: tuple[AddressRange, ...]


def _in_any(ranges: Sequence[AddressRange], address: bytes) -> bool:
    return any(address in entry for entry in ranges)


class PacketPath:
    """One tunnel over one tunnel device; ``send`` puts a datagram on its way to the peer.

    While keys are renewed there is more than one pair of SAs: packets come in by their SPI, and go out by the pair
    in use.
    """

    def __init__(self, device: int, flow: Flow, send: Callable[[bytes], None]) -> None:
        self._device = device
        self.flow = flow
        self._flows = {flow.inbound.spi: flow}
        self._waiting: Flow | None = None
        self._send = send
        self.turned_away = 0

    def add(self, flow: Flow, *, by_peer: bool) -> None:
        """Another pair in place of the one in use; where the peer asked for it, once the peer uses it."""
        self._flows[flow.inbound.spi] = flow
        if by_peer:
            self._waiting = flow
        else:
            self._use(flow)

    def restart(self, flow: Flow) -> None:
        """A tunnel that was lost stands anew; the counters go on."""
        self._flows = {flow.inbound.spi: flow}
        self._use(flow)

    def drop(self, spi: int) -> None:
        """A pair that is not used any more; whoever waits for the peer's first packet waits no longer."""
        gone = self._flows.pop(spi, None)
        if gone is self.flow and self._waiting is not None:
            self._use(self._waiting)

    def _use(self, flow: Flow) -> None:
        flow.outbound.counters, flow.inbound.counters = self.flow.outbound.counters, self.flow.inbound.counters
        self.flow, self._waiting = flow, None

    def outbound_ready(self) -> int:
        """Seal and send what the device has; the number of packets."""
        flow, sent = self.flow, 0
        for _ in range(BATCH):
            try:
                packet = os.read(self._device, MAX_PACKET)
            except BlockingIOError:
                break
            # RFC 4301 §5.1: what the selectors do not cover is dropped, never sent in the clear.
            if not _in_any(flow.local, source(packet)) or not _in_any(flow.remote, destination(packet)):
                self.turned_away += 1
                continue
            self._send(flow.outbound.seal(packet))
            sent += 1
        return sent

    def inbound(self, datagram: bytes) -> bool:
        """Open an ESP datagram and hand the packet to the device; whether it was an authentic one."""
        flow = self._flows.get(int.from_bytes(datagram[:4]), self.flow)
        try:
            packet = flow.inbound.open(datagram)
        except Malformed:
            return False
        if flow is self._waiting:
            self._use(flow)
        if packet:
            # RFC 4301 §5.2: the selectors hold for what comes in as well.
            if not _in_any(flow.remote, source(packet)) or not _in_any(flow.local, destination(packet)):
                self.turned_away += 1
                return False
            with suppress(OSError):
                os.write(self._device, packet)
        return True
