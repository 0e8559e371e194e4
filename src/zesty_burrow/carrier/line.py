"""One IKE SA of a tunnel with the socket that serves it, from its first datagram until it is gone."""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Iterable
from contextlib import suppress

from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.datapath import DataPath
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.pump import Pump
from zesty_burrow.core.ike.config import InitiatorConfig
from zesty_burrow.core.ike.events import Endpoint, Event, Negotiated
from zesty_burrow.core.ike.initiator import Initiator
from zesty_burrow.core.ike.initiator_table import State


class Line:
    """``path`` gives the data path once there is one; ``on_event`` hears of each event of this line.

    One socket serves both of the gateway's ports; what comes from the encapsulation port and has no marker is ESP.
    """

    def __init__(
        self,
        config: InitiatorConfig,
        path: Callable[[], DataPath | None],
        on_event: Callable[[Line, Event], None],
        without: frozenset[str] = frozenset(),
    ) -> None:
        self.initiator = Initiator(config, os.urandom)
        self.negotiated: Negotiated | None = None
        self._path = path
        self._on_event = on_event
        self._channel = udp_socket(socket.AF_INET6 if ":" in config.gateway[0] else socket.AF_INET)
        self.port = UdpPort(self._channel, without)
        number = config.local_port
        self.pump: Pump[Event] = Pump(
            self.initiator, {number: self._channel}, self._receive, self._tell, {number: self.port}, self._bulk
        )

    @property
    def peer(self) -> Endpoint:
        """Where the gateway is."""
        return self.initiator.peer

    @property
    def stands(self) -> bool:
        """Whether its IKE SA is established."""
        return self.initiator.state is State.ESTABLISHED

    def start(self) -> None:
        """Begin the negotiation."""
        self.initiator.start(self.pump.now())
        self.pump.flush()

    def close(self) -> None:
        """End it; an event tells when the gateway knows."""
        self.initiator.close(self.pump.now())
        self.pump.flush()

    def say_goodbye(self) -> None:
        """Tell a gateway that has granted a tunnel that it is not used any more; nobody waits for its answer."""
        if self.stands:
            self.initiator.close(self.pump.now())
            for datagram in self.initiator.send(self.pump.now()):
                with suppress(OSError):
                    self._channel.sendto(datagram.data, datagram.destination)

    def dispose(self) -> None:
        """Let go of the socket and the timers."""
        self.pump.close()
        self._channel.close()

    def _tell(self, event: Event) -> None:
        if isinstance(event, Negotiated):
            self.negotiated = event
        self._on_event(self, event)

    def _receive(self, data: bytes, source: Endpoint, _: int, now: float) -> None:
        if source[0] == self.peer[0]:
            self.initiator.receive(data, source, now)

    def _bulk(self, burst: Burst, port: UdpPort, _: int, now: float) -> Iterable[bytes]:
        if burst.source[0] != self.peer[0] or burst.source[1] != self.initiator.config.encapsulation_port:
            return burst.datagrams()
        path = self._path()
        if path is None:
            return (data for data in burst.datagrams() if data[:4] == bytes(4))
        heard, others = path.inbound(burst, port)
        if heard:
            self.initiator.traffic_received(now)
        return others
