"""IKEv1, ESP, L2TP and PPP on top of each other, at either end: what comes goes up, what is to be said goes down."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import AddressRange, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.l2tp_ipsec.channel import L2tpChannel, pair_of
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import (
    Agreed,
    Authenticated,
    ChildConfirmed,
    ChildGone,
    ChildUp,
    Ended,
    Reached,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.end import IkeEnd
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import NON_ESP
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import CallOpened, L2tpConnection, Over
from zesty_burrow.protocols.ppp.link import LinkOver, NetworkUp, PppLink, SignedIn
from zesty_burrow.records import dataclass

WORN = 3 << 30
"""Packets under one key: three quarters of ESP's numbers (RFC 4303 §3.3.3)."""


@dataclass(frozen=True, slots=True)
class Renewed:
    """Other keys for ESP, or one pair less."""

    at: float
    suite: Suite | None


LayerEvent = Reached | Agreed | Authenticated | ChildUp | Renewed | SignedIn | NetworkUp | LinkOver | Over | Ended


class Layers:
    """All of one tunnel. ``channel``: once there are keys of ESP."""

    def __init__(self, ike: IkeEnd, l2tp: L2tpConnection, link: PppLink, random: Random) -> None:
        self.ike, self.l2tp, self.link = ike, l2tp, link
        self.channel: L2tpChannel | None = None
        self.is_over = False
        self._random = random
        self._sealed: list[bytes] = []
        self._events: deque[LayerEvent] = deque()

    @property
    def has_received(self) -> bool:
        """Whether messages came in the channel's datagrams."""
        return self.channel is not None and self.channel.has_messages

    def start(self, now: float) -> None:
        self.ike.start(now)

    def close(self, now: float) -> None:
        """End everything from the top."""
        self.link.close(now)
        self._sealed += self._seal_all(now)
        self.l2tp.close(now)
        self.look(now)
        self._sealed += self._seal_all(now)
        self.ike.close(now)
        self.is_over = True

    def receive(self, data: bytes, source: Endpoint, now: float, *, marked: bool) -> None:
        """Take a datagram. ``marked``: it came by the port of address translation."""
        if marked and data[:4] != NON_ESP:
            self._on_esp(data, now)
        else:
            self.ike.receive(data, source, now, marked=marked)
        self.look(now)

    def _on_esp(self, data: bytes, now: float) -> None:
        """Before the data path does it."""
        if self.channel is None or data[:4] not in self.channel.labels:
            return
        try:
            self.channel.open_message(data, now)
        except Malformed:
            return

    def open_channel(self, local: tuple[AddressRange, ...], remote: tuple[AddressRange, ...]) -> None:
        """The networks are up: packets may go."""
        if self.channel is not None:
            self.channel.open_for(local, remote)

    def look(self, now: float) -> None:
        """Hand on what has come, from layer to layer."""
        channel = self.channel
        if channel is not None:
            while channel.messages:
                self.l2tp.receive(channel.messages.popleft(), now)
        while self.l2tp.frames:
            self.link.receive(self.l2tp.frames.popleft(), now)
        self._look_at_ike(now)
        while (told := self.l2tp.next_event()) is not None:
            if isinstance(told, CallOpened):
                self.link.start(now)
            else:
                self._events.append(told)
        while (said := self.link.next_event()) is not None:
            self._events.append(said)

    def _look_at_ike(self, now: float) -> None:
        while (event := self.ike.next_event()) is not None:
            if isinstance(event, ChildUp):
                self._on_child(event, now)
            elif isinstance(event, ChildConfirmed):
                if self.channel is not None:
                    self.channel.use_waiting()
            elif isinstance(event, ChildGone):
                if self.channel is not None:
                    self.channel.remove(event.spi_in)
                self._events.append(Renewed(now, None))
            else:
                self._events.append(event)

    def _on_child(self, event: ChildUp, now: float) -> None:
        pair = pair_of(event.child, self._random)
        if self.channel is None:
            self.channel = L2tpChannel(pair, self.l2tp)
            self.channel.number_limit = WORN
            self._events.append(event)
            if self.l2tp.is_caller:
                self.l2tp.start(now)
        else:
            self.channel.add(pair, by_peer=event.child.by_peer)
            self._events.append(Renewed(now, event.child.suite))

    def send(self, now: float) -> list[bytes]:
        self.look(now)
        last_words, self._sealed = self._sealed, []
        # The keys are agreed on before anything goes out under them.
        return last_words + self.ike.send() + self._seal_all(now)

    def _seal_all(self, now: float) -> list[bytes]:
        """What L2TP and PPP have to say."""
        if self.channel is None:
            return []
        frames = self.link.send()
        messages = [self.l2tp.frame(frame) for frame in frames] if self.l2tp.peer_session else []
        found = [self.channel.seal_message(one, now) for one in [*self.l2tp.send(), *messages]]
        if found:
            self.ike.liveness.sent(now)
        return found

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self.is_over:
            return None
        found = [self.ike.next_timer(), self.l2tp.next_timer(), self.link.next_timer()]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        """Time has passed; what the channel has carried since the last time counts."""
        channel = self.channel
        if channel is not None:
            if channel.last_received:
                self.ike.liveness.heard(channel.last_received)
                self.link.heard(channel.last_received)
            if channel.last_sent:
                self.ike.liveness.sent(channel.last_sent)
            if channel.wants_rekey:
                # Once is enough: the limit is set again with the new keys.
                self.ike.rekey(now)
            channel.last_sent = channel.last_received = 0.0
        self.ike.handle_timer(now)
        self.l2tp.handle_timer(now)
        self.link.handle_timer(now)
        self.look(now)

    def next_event(self) -> LayerEvent | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
