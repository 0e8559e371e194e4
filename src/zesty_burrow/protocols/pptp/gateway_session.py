"""The gateway's end of PPTP, for stand-ins: one caller."""

from __future__ import annotations

from collections import deque

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import AddressRange, Endpoint
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp.link import CalledConfig, LinkOver, NetworkUp, PppLink, SignedIn
from zesty_burrow.protocols.pptp.channel import PptpChannel
from zesty_burrow.protocols.pptp.control import CallOpened, Over, PptpControl
from zesty_burrow.protocols.pptp.gre import GreFlow
from zesty_burrow.protocols.session import Down, Up

REFUSED_SECONDS = 2.0
EVERYTHING = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))


class PptpCaller:
    """``send_control`` and ``send_packets`` give what goes by the connection and by GRE."""

    def __init__(self, config: CalledConfig, random: Random, peer: Endpoint) -> None:
        self.peer = peer
        self.channel: PptpChannel | None = None
        self.is_up = self.is_over = False
        self._control = PptpControl(random, is_caller=False)
        self._link = PppLink(config, random)
        self._last_words: list[bytes] = []
        self._close_due: float | None = None
        self._events: deque[Up | Down] = deque()

    @property
    def account(self) -> str:
        """As whom it has signed in."""
        return self._link.account

    @property
    def call(self) -> int:
        """By which number its packets come."""
        return self._control.call

    def start(self, now: float) -> None:
        self._control.start(now)

    def close(self, now: float) -> None:
        self._finish(now)
        self._over(now)

    def receive(self, data: bytes, now: float) -> None:
        """Take octets of the connection."""
        self._control.receive(data, now)
        self.look(now)

    def receive_packet(self, data: bytes, now: float) -> None:
        """Take a packet of GRE that no data path has taken."""
        if self.channel is None:
            return
        try:
            if frame := self.channel.unwrap(data, now):
                self.channel.frames.append(frame)
        except Malformed:
            return
        self.look(now)

    def look(self, now: float) -> None:
        while (event := self._control.next_event()) is not None:
            if isinstance(event, CallOpened):
                self.channel = PptpChannel(GreFlow(event.own, event.peer))
                self._link.start(now)
            elif isinstance(event, Over):
                self._over(now)
        while self.channel is not None and self.channel.frames:
            self._link.receive(self.channel.frames.popleft(), now)
        while (said := self._link.next_event()) is not None:
            if isinstance(said, SignedIn) and self.channel is not None:
                key = self._link.key
                self.channel.encrypt(key[16:32], key[:16])
            elif isinstance(said, NetworkUp) and self.channel is not None:
                theirs = tuple(
                    AddressRange(address.ip.packed, address.ip.packed) for address in said.settings.addresses
                )
                self.channel.open_for(EVERYTHING, theirs)
                self.is_up = True
                self._events.append(Up(now, said.settings, theirs, self.channel))
            elif isinstance(said, LinkOver) and said.sign_in:
                # The refusal goes by GRE: the connection must not overtake it.
                self._close_due = now + REFUSED_SECONDS
            elif isinstance(said, LinkOver):
                self._finish(now)
                self._over(now)

    def _finish(self, now: float) -> None:
        self._link.close(now)
        self._last_words += self._wrapped()
        self._control.close(now)

    def _over(self, now: float) -> None:
        if not self.is_over:
            self.is_over = True
            self._events.append(Down(now, True))

    def send_control(self) -> bytes:
        """Octets for the connection."""
        return self._control.send()

    def _wrapped(self) -> list[bytes]:
        return [self.channel.wrap(one) for one in self._link.send()] if self.channel is not None else []

    def send_packets(self) -> list[bytes]:
        found, self._last_words = self._last_words + self._wrapped(), []
        return found

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        if self.is_over:
            return None
        found = [self._control.next_timer(), self._link.next_timer(), self._close_due]
        return min((one for one in found if one is not None), default=None)

    def handle_timer(self, now: float) -> None:
        if self.channel is not None and self.channel.last_received:
            self._link.heard(self.channel.last_received)
        self._control.handle_timer(now)
        self._link.handle_timer(now)
        self.look(now)
        if self._close_due is not None and now >= self._close_due and not self.is_over:
            self.close(now)

    def next_event(self) -> Up | Down | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None
