"""The responder (RFC 7296): one caller of a gateway. :mod:`gateway` holds many of them."""

from __future__ import annotations

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import GatewayProtocolError, Malformed
from zesty_burrow.protocols.ikev2.end_machine import EndMachine
from zesty_burrow.protocols.ikev2.events import Closed, Failed
from zesty_burrow.protocols.ikev2.machine.associations import Associations, deletes_ike_sa
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.handshake import Handshake
from zesty_burrow.protocols.ikev2.responder.ike_auth import CallerAuth
from zesty_burrow.protocols.ikev2.responder.table import (
    REQUESTS,
    RESPONSES,
    TRANSITIONS,
    ResponderConfig,
    Signal,
    State,
)
from zesty_burrow.protocols.ikev2.transition import StateMachine
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable
from zesty_burrow.protocols.ikev2.wire.payloads import Delete
from zesty_burrow.protocols.ikev2.wire.redirect import write_redirect
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, Protocol


class Responder(EndMachine):
    """Made by :class:`Gateway` once IKE_SA_INIT is answered; takes what is protected.

    ``handshake`` and ``sa`` are what IKE_SA_INIT has left.
    """

    def __init__(self, config: ResponderConfig, random: Random, peer: Endpoint, *, started: float) -> None:
        self.config = config
        self.started = started
        self.handshake = Handshake()
        end = IkeEndpoint(random, config.backoff, peer, 4500, is_initiator=False)
        super().__init__(end, Associations(end, config.ike_offers, config.esp_offers, is_caller=False))
        self.end.sa.peer_request_id = 1
        self.machine = StateMachine(TRANSITIONS, State.AUTH_AWAITED, self)
        self.auth = CallerAuth(config, self.end, self.handshake, self.associations)

    # What it is like now.

    @property
    def state(self) -> State:
        """Where the negotiation is."""
        return self.machine.state

    @property
    def account(self) -> str:
        """Who the caller is; empty before that is known."""
        return self.auth.account

    # Calls.

    def receive(self, message: Message, source: Endpoint, now: float) -> None:
        """Take a message that carries our SPIs. Raises :class:`Malformed` for what has to be ignored."""
        if message.header.exchange not in ExchangeType._value2member_map_:
            raise Malformed("a message was dropped", why="its exchange is not expected")
        try:
            whole = self.end.receive(message)
            if whole is not None:
                self._dispatch(whole, source, now)
        except Unusable as problem:
            if self.end.note_unusable(message, problem):
                answers = message.header.is_response
                self.machine.signal(Signal.UNUSABLE_RESPONSE if answers else Signal.UNUSABLE_REQUEST, message, now)

    def _dispatch(self, message: Message, source: Endpoint, now: float) -> None:
        header, waiting = message.header, self.sa.outstanding
        if self.end.at is not self.sa:
            self.associations.take_by_other_sa(message, now)
            return
        if header.is_response:
            self.end.open(message)
            if waiting is None or waiting.message_id != header.message_id:
                raise Malformed("a message was dropped", why="it answers no request of ours")
            answered = RESPONSES.get(ExchangeType(header.exchange))
            if answered is None:
                raise Malformed("a message was dropped", why="its exchange is not expected")
            self.machine.signal(answered, message, now)
            return
        if self.end.take_answer_again(message):
            return
        signal = REQUESTS.get(ExchangeType(header.exchange))
        if signal is None:
            raise Malformed("a message was dropped", why="its exchange is not expected")
        # RFC 7296 §2.23: answer to where an authentic request came from; follow a changed address translation.
        self.end.peer = source
        self.machine.signal(signal, message, now)

    def adopt(self, keys: IkeKeys, *, fragmenting: bool) -> None:
        """Take what IKE_SA_INIT gave: keys, and whether long messages may go in parts."""
        self.sa.use_keys(keys)
        self.sa.fragmenting = fragmenting

    def close(self, now: float) -> None:
        """End the IKE SA with a DELETE."""
        self.machine.signal(Signal.CLOSE, None, now)

    def probe(self, now: float) -> None:
        """Ask whether the peer is alive (RFC 7296 §2.4)."""
        self.machine.signal(Signal.PROBE, None, now)

    def rekey(self, now: float) -> None:
        """New keys for the child SA, now."""
        self.machine.signal(Signal.REKEY, None, now)

    def rekey_ike(self, now: float) -> None:
        """New keys for the IKE SA, now."""
        self.machine.signal(Signal.REKEY_IKE, None, now)

    def redirect(self, to: str, now: float) -> None:
        """Ask the caller to go to another gateway (RFC 5685 §5); it ends this IKE SA itself."""
        if self.state is State.ESTABLISHED and self.sa.outstanding is None:
            self.end.request(ExchangeType.INFORMATIONAL, [write_redirect(to)], now)

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        times = self.end.others_due()
        if self.sa.outstanding is not None:
            times.append(self.sa.outstanding.due)
        elif self.state not in (State.ESTABLISHED, State.CLOSED):
            times.append(self.started + self.config.half_open_seconds)
        elif self.state is State.ESTABLISHED and self.auth.until < float("inf"):
            times.append(self.auth.until)
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        """Retransmit, or end what a silent peer has left."""
        self.end.look_after_others(now)
        half_open = self.state in (State.AUTH_AWAITED, State.SECOND_AWAITED, State.SIGNING_IN, State.CONFIRMING)
        if (half_open and now >= self.started + self.config.half_open_seconds) or (
            self.state is State.ESTABLISHED and now >= self.auth.until and self.sa.outstanding is None
        ):
            self.machine.signal(Signal.CLOSE, None, now)
        elif self.end.retransmit(now, self.sa):
            self.machine.signal(Signal.GIVE_UP, None, now)

    # Handlers of signals, once the caller has signed in.

    def on_informational(self, message: Message, now: float) -> State:
        """A request of the caller."""
        state, payloads = self.state, self.end.open(message)
        answer, _ = self.associations.children.take_deletes(payloads, now)
        self.end.respond(message, [*answer, *self.associations.mobility.answer(payloads)])
        self.associations.mobility.begin_check(now)
        if deletes_ike_sa(payloads) and not self.associations.ike.replace_by_rival(now):
            self.end.events.append(Closed(now, by_peer=True, reason="the caller ended the tunnel"))
            return State.CLOSED
        return state

    def on_child_request(self, message: Message, now: float) -> State:
        self.associations.take_child_request(message, now)
        return State.ESTABLISHED

    def on_child_response(self, message: Message, now: float) -> State:
        """The answer to our CREATE_CHILD_SA."""
        return State.ESTABLISHED if self.associations.take_child_response(message, now) else State.CLOSED

    def on_followup_request(self, message: Message, now: float) -> State:
        self.associations.followup.take_request(message, now)
        return State.ESTABLISHED

    def on_followup_response(self, message: Message, now: float) -> State:
        """The answer to our IKE_FOLLOWUP_KE."""
        return State.ESTABLISHED if self.associations.take_followup_response(message, now) else State.CLOSED

    def on_unusable(self, _: Message | None, now: float) -> State:
        """RFC 7296 §2.21.2: a message of the sign-in that cannot be used ends it."""
        why = self.end.unusable.why if self.end.unusable else ""
        self.end.events.append(Failed(now, GatewayProtocolError("a caller was rejected", why=why)))
        return State.CLOSED

    def on_unusable_request(self, _: Message | None, now: float) -> State:
        """RFC 7296 §2.21.3: answered; what is badly formatted ends the IKE SA, without a DELETE."""
        problem = self.end.unusable
        if problem is None or not problem.is_fatal:
            return State.ESTABLISHED
        self.end.events.append(Closed(now, by_peer=True, reason=f"the caller sent a malformed request: {problem.why}"))
        return State.CLOSED

    def on_unusable_response(self, message: Message | None, now: float) -> State:
        """What was asked for is refused by it; without it the state of both sides is in doubt."""
        if message is not None and self.associations.take_unusable_response(message, now):
            return State.ESTABLISHED
        return self.on_close(None, now)

    def on_rekey(self, _: Message | None, now: float) -> State:
        """New keys for the child SA are asked for."""
        self.associations.begin_child_rekey(now)
        return State.ESTABLISHED

    def on_rekey_ike(self, _: Message | None, now: float) -> State:
        """New keys for the IKE SA are asked for."""
        self.associations.begin_ike_rekey(now)
        return State.ESTABLISHED

    def on_probe(self, _: Message | None, now: float) -> State:
        """Ask whether the caller is alive."""
        if self.sa.outstanding is None:
            self.end.request(ExchangeType.INFORMATIONAL, [], now)
        return State.ESTABLISHED

    def on_alive(self, message: Message, now: float) -> State:
        """The peer is alive, or has deleted a child SA."""
        if not self.associations.take_informational_response(message, now):
            return State.CLOSED
        self.associations.mobility.begin_check(now)
        return State.ESTABLISHED

    def on_close(self, _: Message | None, now: float) -> State:
        """The tunnel is to be ended."""
        give_up = self.config.backoff.give_up
        self.end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, give_up)
        return State.CLOSING

    def on_deleted(self, message: Message | None, now: float) -> State:
        """Our DELETE has been answered, or not in time."""
        if message is not None:
            self.end.at.answered(message.header.message_id)
        self.end.events.append(Closed(now, by_peer=False))
        return State.CLOSED

    def on_abandon(self, _: Message | None, now: float) -> State:
        """The caller has not finished in time."""
        self.end.events.append(Closed(now, by_peer=False, reason="the caller never finished"))
        return State.CLOSED

    def on_nothing(self, _: Message | None, now: float) -> State:
        """Closing twice is closing once."""
        return self.state
