"""Asks a gateway what it can do over HTTP, without signing in: the handshake, its certificates, its settings."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.policy.tls_names import suite_of
from zesty_burrow.errors import GatewayNotProven, ProgramFault
from zesty_burrow.protocols.connect_ip.config import ClientConfig
from zesty_burrow.protocols.connect_ip.http.link import Gone, HttpLink, LinkEvent, Secured
from zesty_burrow.protocols.gateway_proof import prove_chain
from zesty_burrow.protocols.session import Framing, ProbeDone
from zesty_burrow.records import dataclass

SETTINGS_DUE = 1.0
"""Seconds for the settings of HTTP, which come with the handshake's end."""


@dataclass(slots=True)
class HttpCapabilities:
    """``chosen``: what TLS has agreed on; ``version``: of HTTP; ``against``: why no tunnel would come of it."""

    chosen: Suite | None = None
    version: str = ""
    against: str = ""
    round_trip: float = 0.0

    @property
    def is_known(self) -> bool:
        """Whether the gateway has said anything."""
        return self.chosen is not None or bool(self.against)

    @property
    def words(self) -> str:
        """What there is to know."""
        return f"{self.version}, {self.chosen}" if self.chosen else ""


class HttpProbe:
    """``start``, then the calls of a protocol machine. Credentials are not in it."""

    local_port = 1

    def __init__(self, config: ClientConfig) -> None:
        self.gateway, self.transport = config.gateway, config.transport
        self.found = HttpCapabilities()
        self._config = config
        self._link: HttpLink = config.make_link(None)
        self._due: float | None = None
        self._began = 0.0
        self._events: deque[ProbeDone] = deque()
        self._is_over = self._is_proven = False

    @property
    def framing(self) -> Framing:
        """HTTP frames its messages itself."""
        raise ProgramFault("a probe over HTTP has no datagrams to frame")

    def start(self, now: float) -> None:
        self._began, self._due = now, now + self._config.timeout
        self._link.start(now)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take what has come. Never raises for content."""
        if not self._is_over and source[0] == self.gateway[0]:
            self._take(self._link.receive(data, now), now)

    def _take(self, events: list[LinkEvent], now: float) -> None:
        for event in events:
            if isinstance(event, Secured):
                self.found.round_trip = now - self._began
                self.found.chosen, self.found.version = (
                    suite_of(event.cipher_suite, event.group, event.group_words),
                    event.version,
                )
                try:
                    prove_chain(self._config.trust, event.chain, self.gateway[0])
                except GatewayNotProven as problem:
                    self.found.against = problem.why
                    self._end(now)
                    return
                self._is_proven = True
                self._link.inquire()
                self._due = now + SETTINGS_DUE
            elif isinstance(event, Gone) and not self._is_over:
                self.found.against = self.found.against or event.why
                self._end(now, silent=self.found.chosen is None)
                return
        if self.found.chosen is not None and self._link.takes_tunnels is not None:
            self._settle(now)

    def _settle(self, now: float) -> None:
        if self._link.takes_tunnels is False:
            self.found.against = "it has no extended CONNECT (RFC 8441, RFC 9220)"
        self._end(now)

    def _end(self, now: float, *, silent: bool = False) -> None:
        """Close the connection, so that a gateway that has proven itself does not wait for more."""
        self._is_over, self._due = True, None
        if self._is_proven:
            self._link.close()
        self._events.append(ProbeDone(now, silent=silent))

    def send(self, now: float) -> list[Datagram]:
        """What to send now; nothing more to whom did not prove himself."""
        if self._is_over and not self._is_proven:
            return []
        return [Datagram(data, self.local_port, self.gateway) for data, _ in self._link.out(now)]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        own = [self._due, self._link.next_timer() if not self._is_over else None]
        return min((one for one in own if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        if not self._is_over:
            self._take(self._link.handle_timer(now), now)
        if self._due is not None and now >= self._due and not self._is_over:
            if self.found.chosen is None:
                self._end(now, silent=True)
            else:
                self._settle(now)

    def next_event(self) -> ProbeDone | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
