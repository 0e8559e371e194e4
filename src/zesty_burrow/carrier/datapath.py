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
    """One flow over one tunnel device; ``send`` puts a datagram on its way to the peer."""

    def __init__(self, device: int, flow: Flow, send: Callable[[bytes], None]) -> None:
        self._device = device
        self._flow = flow
        self._send = send
        self.turned_away = 0

    def outbound_ready(self) -> int:
        """Seal and send what the device has; the number of packets."""
        flow, sent = self._flow, 0
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
        """Open an ESP datagram and hand the packet to the device; whether it was a good one."""
        flow = self._flow
        try:
            packet = flow.inbound.open(datagram)
        except Malformed:
            return False
        if packet:
            # RFC 4301 §5.2: the selectors hold for what comes in as well.
            if not _in_any(flow.remote, source(packet)) or not _in_any(flow.local, destination(packet)):
                self.turned_away += 1
                return False
            with suppress(OSError):
                os.write(self._device, packet)
        return True
