"""The initiator with its tunnel established: keep-alives, probes, new keys, the end (RFC 7296 §1.4, §2.4, §2.8)."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from zesty_burrow.core.net import Datagram
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Closed, Redirected, SignInLimit
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.table import Signal, State
from zesty_burrow.protocols.ikev2.machine.associations import Associations, deletes_ike_sa
from zesty_burrow.protocols.ikev2.machine.endpoint import KEEPALIVE, IkeEndpoint
from zesty_burrow.protocols.ikev2.wire.message import Message, notifications
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, Payload
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol

KEEPALIVE_EVERY = 20.0
CLOSE_TIMEOUT = 2.0
"""Seconds in which a DELETE is answered, or not waited for any longer."""
WORN_SEQUENCE = 3 << 30
"""Three quarters of the 32-bit sequence numbers: enough are left while new keys are agreed on (RFC 4303 §3.3.3)."""


class Established:
    """The part of the initiator that is at work from its first child SA on."""

    def __init__(self, config: InitiatorConfig, end: IkeEndpoint, associations: Associations) -> None:
        self._config = config
        self._end = end
        self._associations = associations
        self._keepalive_due = 0.0
        self._alive_due = 0.0
        self._worn = 0

    def begin(self, child: ChildEstablished, payloads: Sequence[Payload], now: float) -> State:
        """The first child SA is there, as the gateway's last IKE_AUTH message grants it."""
        self._associations.mobility.enabled = NotifyType.MOBIKE_SUPPORTED in notifications(payloads)
        self._associations.children.child = child
        self._end.events.append(child)
        self._take_sign_in_limit(payloads, now)
        self._alive_due = now + self._config.liveness_seconds
        self._end.patience = self._config.backoff.dead
        self._associations.children.rekey_due = now + self._a_little_less(self._config.child_seconds)
        self._keepalive_due = now + KEEPALIVE_EVERY
        return State.ESTABLISHED

    def traffic_sent(self, now: float, octets: int = 0, sequence: int = 0) -> bool:
        """Tell that an ESP packet has just gone out, so that no keep-alive is needed for a while.

        ``octets`` and ``sequence``: what has gone out under its key. True where new keys have become due by them.
        """
        self._keepalive_due = now + KEEPALIVE_EVERY
        child, children = self._associations.children.child, self._associations.children
        if child is None or child.spi_in == self._worn:
            return False
        short_of_numbers = sequence >= WORN_SEQUENCE and not child.extended
        if octets < self._config.child_octets and not short_of_numbers:
            return False
        self._worn, children.rekey_due = child.spi_in, now
        return True

    def traffic_received(self, now: float) -> None:
        """Tell that an authentic packet has come in, so the gateway need not be asked if it is alive (§2.4)."""
        self._alive_due = now + self._config.liveness_seconds
        self._end.sa.peer_is_alive(now, self._end.patience)

    def next_timer(self) -> float:
        """When ``due_signals`` has something to tell."""
        children, ike = self._associations.children, self._associations.ike
        times = [self._alive_due, ike.due if ike.due is not None else 0.0]
        # RFC 9329 §6.6: address translation remembers a TCP connection by itself.
        times += [] if self._config.over_stream else [self._keepalive_due]
        times += [children.rekey_due] if children.rekey_due is not None else []
        times += [0.0] if self._associations.mobility.update_due and self._end.sa.outstanding is None else []
        return min(times)

    def due_signals(self, now: float) -> Iterator[Signal]:
        """What an established tunnel needs from time to time, to be handled one after the other."""
        if now >= self._keepalive_due and not self._config.over_stream:
            self._keepalive_due = now + KEEPALIVE_EVERY
            self._end.out.append(Datagram(KEEPALIVE, self._end.local_port, self._end.peer))
        if self._associations.children.rekey_due is not None and now >= self._associations.children.rekey_due:
            self._associations.children.rekey_due = now + self._a_little_less(self._config.child_seconds)
            yield Signal.REKEY
        if self._associations.mobility.update_due:
            yield Signal.MOVE
        if self._associations.ike.due is None:
            self._associations.ike.due = now + self._a_little_less(self._config.ike_seconds)
        if now >= self._associations.ike.due:
            self._associations.ike.due = None
            yield Signal.REKEY_IKE
        if now >= self._alive_due:
            self._alive_due = now + self._config.liveness_seconds
            if self._end.sa.outstanding is None:
                yield Signal.PROBE

    def _a_little_less(self, seconds: float) -> float:
        """Up to a tenth earlier, so that tunnels are not all rekeyed at one time (RFC 7296 §2.8)."""
        return seconds * (1 - self._end.random(1)[0] / 2560)

    def _take_sign_in_limit(self, payloads: Sequence[Payload], now: float) -> None:
        """RFC 4478 §3."""
        told = notifications(payloads).get(NotifyType.AUTH_LIFETIME)
        if told is not None and len(told.data) == 4:
            self._end.events.append(SignInLimit(now, int.from_bytes(told.data)))

    # Handlers of signals.

    def on_informational(self, message: Message, now: float) -> State:
        """A request of the gateway, while there is a child SA."""
        payloads = self._end.open(message)
        if deletes_ike_sa(payloads):
            return self._take_delete(message, now)
        elsewhere = read_redirect_untrusted(notifications(payloads), None)
        if self._take_informational(message, payloads, now) and elsewhere is None:
            # Without a child SA the rest has no use.
            self._end.events.append(Closed(now, by_peer=True, reason="the gateway ended the child SA"))
            return self.begin_close(now)
        if elsewhere is not None:
            # RFC 5685 §5: acknowledged above; the caller closes this IKE SA once it can reach the other gateway.
            self._end.events.append(Redirected(now, elsewhere))
        return State.ESTABLISHED

    def on_informational_closing(self, message: Message, now: float) -> State:
        """A request of the gateway that has crossed our DELETE."""
        payloads = self._end.open(message)
        if deletes_ike_sa(payloads):
            return self._take_delete(message, now, State.CLOSING)
        self._take_informational(message, payloads, now)
        return State.CLOSING

    def _take_delete(self, message: Message, now: float, otherwise: State = State.ESTABLISHED) -> State:
        self._end.respond(message, [])
        if self._associations.ike.replace_by_rival(now):
            return otherwise
        self._end.events.append(Closed(now, by_peer=True, reason="the gateway ended the tunnel"))
        return State.CLOSED

    def _take_informational(self, message: Message, payloads: Sequence[Payload], now: float) -> bool:
        """Answer; whether the pair of child SAs in use is gone."""
        self._take_sign_in_limit(payloads, now)
        answer, current = self._associations.children.take_deletes(payloads, now)
        self._end.respond(message, [*answer, *self._associations.mobility.answer(payloads)])
        return current

    def on_child_request(self, message: Message, now: float) -> State:
        self._associations.take_child_request(message, now)
        return State.ESTABLISHED

    def on_child_response(self, message: Message, now: float) -> State:
        """The answer to our CREATE_CHILD_SA."""
        return State.ESTABLISHED if self._associations.take_child_response(message, now) else State.CLOSED

    def on_followup_request(self, message: Message, now: float) -> State:
        self._associations.followup.take_request(message, now)
        return State.ESTABLISHED

    def on_followup_response(self, message: Message, now: float) -> State:
        """The answer to our IKE_FOLLOWUP_KE."""
        return State.ESTABLISHED if self._associations.take_followup_response(message, now) else State.CLOSED

    def on_unusable_request(self, _: Message | None, now: float) -> State:
        """RFC 7296 §2.21.3: answered; what is badly formatted ends the IKE SA, without a DELETE."""
        problem = self._end.unusable
        if problem is None or not problem.is_fatal:
            return State.ESTABLISHED
        self._end.events.append(
            Closed(now, by_peer=True, reason=f"the gateway sent a malformed request: {problem.why}")
        )
        return State.CLOSED

    def on_unusable_response(self, message: Message | None, now: float) -> State:
        """What was asked for is refused by it; without it the state of both sides is in doubt."""
        if message is not None and self._associations.take_unusable_response(message, now):
            return State.ESTABLISHED
        why = self._end.unusable.why if self._end.unusable else ""
        self._end.events.append(Closed(now, by_peer=True, reason=f"the gateway sent a malformed answer: {why}"))
        return self.begin_close(now)

    def on_rekey(self, _: Message | None, now: float) -> State:
        """New keys for the child SA are due."""
        if not self._associations.begin_child_rekey(now):
            self._associations.children.rekey_due = now + 1.0
        return State.ESTABLISHED

    def on_rekey_ike(self, _: Message | None, now: float) -> State:
        """New keys for the IKE SA are due."""
        if not self._associations.begin_ike_rekey(now):
            self._associations.ike.due = now + 1.0
        return State.ESTABLISHED

    def on_move(self, _: Message | None, now: float) -> State:
        """A gateway that does not know MOBIKE sees the new address by any authentic message (RFC 7296 §2.23)."""
        mobility = self._associations.mobility
        if mobility.enabled:
            mobility.begin_update(now)
        elif self._end.sa.outstanding is None:
            mobility.update_sent()
            self._end.request(ExchangeType.INFORMATIONAL, [], now)
        return State.ESTABLISHED

    def on_probe(self, _: Message | None, now: float) -> State:
        """Ask whether the gateway is alive."""
        self._end.request(ExchangeType.INFORMATIONAL, [], now)
        return State.ESTABLISHED

    def on_alive(self, message: Message, now: float) -> State:
        if not self._associations.take_informational_response(message, now):
            return State.CLOSED
        self._alive_due = now + self._config.liveness_seconds
        return State.ESTABLISHED

    def on_lost(self, _: Message | None, now: float) -> State:
        """The gateway has not answered for as long as it was given."""
        seconds = self._end.patience
        reason = f"the gateway has not answered for {seconds:g} seconds"
        self._end.events.append(Closed(now, by_peer=True, reason=reason))
        return State.CLOSED

    def begin_close(self, now: float) -> State:
        """End the IKE SA with a DELETE."""
        self._end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, CLOSE_TIMEOUT)
        return State.CLOSING

    def on_close(self, _: Message | None, now: float) -> State:
        """The tunnel is to be ended."""
        return self.begin_close(now)

    def on_deleted(self, message: Message | None, now: float) -> State:
        """Our DELETE has been answered, or has not been in time."""
        if message is not None:
            self._end.open(message)
            self._end.at.answered(message.header.message_id)
        self._end.events.append(Closed(now, by_peer=False))
        return State.CLOSED
