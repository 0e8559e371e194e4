"""The initiator while its IKE SA stands: keep-alives, probes, renewed keys, and the end (RFC 7296 §1.4, §2.4, §2.8)."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.net import Datagram
from zesty_burrow.protocols.ikev2.events import Closed, Redirected, SignInLimit
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.table import Signal, State
from zesty_burrow.protocols.ikev2.machine.child_sa import ChildSaKeeper
from zesty_burrow.protocols.ikev2.machine.endpoint import KEEPALIVE
from zesty_burrow.protocols.ikev2.wire.message import Message, notifications
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, Payload
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol

KEEPALIVE_EVERY = 20.0
CLOSE_PATIENCE = 2.0
WORN_SEQUENCE = 3 << 30
"""Three quarters of the 32-bit sequence numbers: enough are left while new keys are agreed on (RFC 4303 §3.3.3)."""


class Established(ChildSaKeeper):
    """The base of the initiator."""

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        offers = config.ike_offers, config.esp_offers
        super().__init__(random, config.backoff, offers, config.gateway, config.local_port, is_initiator=True)
        self.state = State.IDLE
        self.config = config
        self._keepalive_due = 0.0
        self._alive_due = 0.0
        self._worn = 0

    def _signal(self, signal: Signal, now: float, message: Message | None) -> None:
        raise NotImplementedError

    def traffic_sent(self, now: float, octets: int = 0, sequence: int = 0) -> bool:
        """Tell that an ESP packet has just gone out, so that no keep-alive is needed for a while.

        ``octets`` and ``sequence``: what has gone out under its key. True where new keys have become due by them.
        """
        self._keepalive_due = now + KEEPALIVE_EVERY
        child = self.child
        if child is None or child.spi_in == self._worn:
            return False
        short_of_numbers = sequence >= WORN_SEQUENCE and not child.extended
        if octets < self.config.child_octets and not short_of_numbers:
            return False
        self._worn, self._rekey_due = child.spi_in, now
        return True

    def traffic_received(self, now: float) -> None:
        """Tell that an authentic ESP packet has come in, so that nobody need be asked whether he lives (§2.4)."""
        self._alive_due = now + self.config.liveness_seconds

    def rekey(self, now: float) -> None:
        """New keys for the child SA, now."""
        self._signal(Signal.REKEY, now, None)

    def rekey_ike(self, now: float) -> None:
        """New keys for the IKE SA, now."""
        self._signal(Signal.REKEY_IKE, now, None)

    @property
    def is_caller(self) -> bool:
        return True

    def moved(self, now: float) -> None:
        """Tell that this machine has another address towards the gateway than before."""
        if self.state is State.ESTABLISHED:
            self._update_due = True
            self._look_after(now)

    def _look_after(self, now: float) -> None:
        """What a standing tunnel needs from time to time."""
        if now >= self._keepalive_due:
            self._keepalive_due = now + KEEPALIVE_EVERY
            self._out.append(Datagram(KEEPALIVE, self.local_port, self.peer))
        if self._rekey_due is not None and now >= self._rekey_due:
            self._rekey_due = now + self._a_little_less(self.config.child_seconds)
            self._signal(Signal.REKEY, now, None)
        if self._update_due:
            self._signal(Signal.MOVE, now, None)
        if self._ike_due is None:
            self._ike_due = now + self._a_little_less(self.config.ike_seconds)
        if now >= self._ike_due:
            self._ike_due = None
            self._signal(Signal.REKEY_IKE, now, None)
        if now >= self._alive_due:
            self._alive_due = now + self.config.liveness_seconds
            if self.sa.outstanding is None:
                self._signal(Signal.PROBE, now, None)

    def _a_little_less(self, seconds: float) -> float:
        """Up to a tenth earlier, so that many tunnels are not rekeyed at one time (RFC 7296 §2.8)."""
        return seconds * (1 - self._random(1)[0] / 2560)

    def _take_sign_in_limit(self, payloads: Sequence[Payload], now: float) -> None:
        """RFC 4478 §3."""
        told = notifications(payloads).get(NotifyType.AUTH_LIFETIME)
        if told is not None and len(told.data) == 4:
            self._events.append(SignInLimit(now, int.from_bytes(told.data)))

    def _on_informational(self, message: Message, now: float) -> None:
        payloads = self._open(message)
        deletes = [entry for entry in payloads if isinstance(entry, Delete)]
        if any(entry.protocol == Protocol.IKE for entry in deletes):
            self._respond(message, [])
            if self._succeed_by_rival(now):
                return
            self._events.append(Closed(now, by_peer=True, reason="the gateway ended the tunnel"))
            self.state = State.CLOSED
            return
        elsewhere = read_redirect_untrusted(notifications(payloads), None)
        self._take_sign_in_limit(payloads, now)
        answer, current = self._take_deletes(payloads, now)
        self._respond(message, [*answer, *self._mobility_answer(payloads)])
        if elsewhere is not None and self.state is State.ESTABLISHED:
            # §5: acknowledged above; whoever carries the tunnel ends it once it knows the way to the other gateway.
            self._events.append(Redirected(now, elsewhere))
        elif current and self.state is State.ESTABLISHED:
            # Without a child SA the rest has no use.
            self._events.append(Closed(now, by_peer=True, reason="the gateway ended the child SA"))
            self._begin_close(now)

    def _on_child_request(self, message: Message, now: float) -> None:
        self._take_child_request(message, now)

    def _on_child_response(self, message: Message, now: float) -> None:
        self._take_child_response(message, now)

    def _on_followup_request(self, message: Message, now: float) -> None:
        self._take_followup_request(message, now)

    def _on_followup_response(self, message: Message, now: float) -> None:
        self._take_followup_response(message, now)

    def _on_rekey(self, _: Message | None, now: float) -> None:
        if not self._begin_rekey(now):
            self._rekey_due = now + 1.0

    def _on_rekey_ike(self, _: Message | None, now: float) -> None:
        if not self._begin_succession(now):
            self._ike_due = now + 1.0

    def _on_move(self, _: Message | None, now: float) -> None:
        """A gateway that does not know MOBIKE sees the new address by any authentic message (RFC 7296 §2.23)."""
        if self.mobile:
            self._begin_update(now)
        elif self.sa.outstanding is None:
            self._update_due = False
            self._request(ExchangeType.INFORMATIONAL, [], now)

    def _on_probe(self, _: Message | None, now: float) -> None:
        self._request(ExchangeType.INFORMATIONAL, [], now)

    def _on_alive(self, message: Message, now: float) -> None:
        if not self._take_informational_response(message, now):
            self.state = State.CLOSED
            return
        self._alive_due = now + self.config.liveness_seconds

    def _on_lost(self, _: Message | None, now: float) -> None:
        seconds = self.config.backoff.give_up
        self._events.append(Closed(now, by_peer=True, reason=f"the gateway has not answered for {seconds:g} seconds"))
        self.state = State.CLOSED

    def _begin_close(self, now: float) -> None:
        self._request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, CLOSE_PATIENCE)
        self.state = State.CLOSING

    def _on_close(self, _: Message | None, now: float) -> None:
        self._begin_close(now)

    def _on_deleted(self, message: Message | None, now: float) -> None:
        if message is not None:
            self._open(message)
            self._at.answered(message.header.message_id)
        self._events.append(Closed(now, by_peer=False))
        self.state = State.CLOSED

    def _on_nothing(self, _: Message | None, now: float) -> None:
        """Closing twice is closing once."""
