"""The first message may get several answers, forged ones among them; the one that proves itself is the gateway.

RFC 7296 §2.4: an initiator may go on with each answer to IKE_SA_INIT until one of them turns out to be right.
"""

from __future__ import annotations

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.protocols.ikev2.events import Event, Failed
from zesty_burrow.protocols.ikev2.initiator.config import BY_EAP, InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.initiator import Initiator
from zesty_burrow.protocols.ikev2.initiator.table import State

MAX_CANDIDATES = 4
UNPROVEN = (State.IDLE, State.INIT_SENT, State.INTERMEDIATE, State.PROOF_AWAITED)


class Candidates:
    """``leading``: the initiator whose events are passed on. The others go on until one has proven itself."""

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        self.leading = Initiator(config, random)
        self._others: list[Initiator] = []
        self._settled = False
        self._unproven = (*UNPROVEN, State.SIGNING_IN) if config.proof == BY_EAP else UNPROVEN

    @property
    def _all(self) -> list[Initiator]:
        return [self.leading, *self._others]

    def receive(self, data: bytes, source: Endpoint, now: float) -> None:
        """Take a datagram that is not ESP. Never raises for content."""
        if not self._settled:
            self._take_another_answer(data, source, now)
        for one in self._all:
            one.receive(data, source, now)
        self._settle()

    def send(self, now: float) -> list[Datagram]:
        return [datagram for one in self._all for datagram in one.send(now)]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        times = [due for one in self._all if (due := one.next_timer()) is not None]
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        for one in self._all:
            one.handle_timer(now)

    def next_event(self) -> Event | None:
        """The next event of the leading one. Its failure is passed on only where no other is left."""
        event = self.leading.next_event()
        while isinstance(event, Failed) and self._others:
            self.leading = self._others.pop(0)
            event = self.leading.next_event()
        return event

    def _take_another_answer(self, data: bytes, source: Endpoint, now: float) -> None:
        """Somebody has answered the first message as well: that one may be the gateway."""
        known = self.leading.handshake.init_response
        if not known or len(self._others) >= MAX_CANDIDATES - 1 or not self.leading.is_another_answer(data, source):
            return
        if any(one.handshake.init_response == data for one in self._others):
            return
        other = self.leading.fork(now)
        other.receive(data, source, now)
        if other.handshake.init_response:
            self._others.append(other)

    def _settle(self) -> None:
        if self._settled:
            return
        proven = next((one for one in self._all if one.state not in (*self._unproven, State.CLOSED)), None)
        if proven is not None:
            self.leading, self._settled = proven, True
            self._others.clear()
            proven.init.forget_agreement()
