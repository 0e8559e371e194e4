"""Whether a gateway speaks PPTP: the first message of its control connection. Nobody signs in."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import ProgramFault
from zesty_burrow.protocols.pptp.control import PORT, PptpControl
from zesty_burrow.protocols.session import Framing, ProbeDone, Transport
from zesty_burrow.records import dataclass


@dataclass(slots=True)
class PptpCapabilities:
    """``chosen``: always None, as nothing is negotiated before the sign-in."""

    chosen: Suite | None = None
    words: str = ""
    against: str = ""
    round_trip: float = 0.0

    @property
    def is_known(self) -> bool:
        """Whether the gateway has said anything."""
        return bool(self.words or self.against)


class PptpProbe:
    """``start``, then the calls of a protocol machine."""

    transport = Transport.STREAM
    local_port = 1

    def __init__(self, address: str, timeout: float, random: Random) -> None:
        self.gateway: Endpoint = (address, PORT)
        self.found = PptpCapabilities()
        self._control = PptpControl(random, is_caller=True, timeout=timeout)
        self._began = 0.0
        self._is_over = False
        self._events: deque[ProbeDone] = deque()

    @property
    def framing(self) -> Framing:
        raise ProgramFault("PPTP has no datagrams to frame")

    def start(self, now: float) -> None:
        self._began = now
        self._control.start(now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take octets. Never raises for their content."""
        self._control.receive(data, now)
        self._look(now)

    def _look(self, now: float) -> None:
        if self._is_over:
            return
        event = self._control.next_event()
        if self._control.is_reached and event is None:
            self.found.words = "PPTP: RC4, no integrity"
            self.found.round_trip = now - self._began
            self._control.send()
            self._control.close(now)
        elif event is None:
            return
        elif self._control.is_reached:
            self.found.against = getattr(event, "reason", "")
        self._is_over = True
        self._events.append(ProbeDone(now, silent=not self.found.is_known))

    def send(self, now: float) -> list[Datagram]:
        """Octets to send now."""
        octets = self._control.send()
        return [Datagram(octets, self.local_port, self.gateway)] if octets else []

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self._control.next_timer()

    def handle_timer(self, now: float) -> None:
        self._control.handle_timer(now)
        self._look(now)

    def next_event(self) -> ProbeDone | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
