"""The initiator (RFC 7296): from the first datagram to a child SA, and to its end."""

from __future__ import annotations

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import GatewayUnreachable, Malformed, ProgramFault
from zesty_burrow.protocols.ikev2.end_machine import EndMachine
from zesty_burrow.protocols.ikev2.events import Closed, KeyExport
from zesty_burrow.protocols.ikev2.initiator.config import InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.established import Established
from zesty_burrow.protocols.ikev2.initiator.ike_auth import IkeAuth
from zesty_burrow.protocols.ikev2.initiator.ike_init import IkeInit
from zesty_burrow.protocols.ikev2.initiator.table import REQUESTS, RESPONSES, TRANSITIONS, Signal, State
from zesty_burrow.protocols.ikev2.machine.associations import Associations
from zesty_burrow.protocols.ikev2.machine.endpoint import NON_ESP_MARKER, IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.handshake import Handshake
from zesty_burrow.protocols.ikev2.machine.negotiation import protocol_error
from zesty_burrow.protocols.ikev2.transition import StateMachine
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    Unusable,
    parse_header_untrusted,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType


class Initiator(EndMachine):
    """``start``, then the five calls: ``receive``, ``send``, ``next_timer``, ``handle_timer``, ``next_event``.

    Its parts share one :class:`IkeEndpoint`; the table of states names the part that handles a signal.
    """

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        self.config = config
        end = IkeEndpoint(random, config.backoff, config.gateway, config.local_port, is_initiator=True)
        super().__init__(end, Associations(end, config.ike_offers, config.esp_offers, is_caller=True))
        self.machine = StateMachine(TRANSITIONS, State.IDLE, self)
        self.handshake = Handshake()
        self.init = IkeInit(config, self.end, self.handshake)
        self.established = Established(config, self.end, self.associations)
        self.auth = IkeAuth(config, self.end, self.handshake, self.established)

    # What it is like now.

    @property
    def state(self) -> State:
        """Where the negotiation is."""
        return self.machine.state

    @property
    def local_port(self) -> int:
        return self.end.local_port

    @property
    def ignored(self) -> list[str]:
        """Why the last few messages were dropped."""
        return list(self.end.ignored)

    # Calls.

    def start(self, now: float) -> None:
        self.machine.signal(Signal.START, None, now)

    def close(self, now: float) -> None:
        """End it: with a DELETE if the gateway knows us, at once otherwise."""
        self.machine.signal(Signal.CLOSE, None, now)

    def rekey(self, now: float) -> None:
        """New keys for the child SA, now."""
        self.machine.signal(Signal.REKEY, None, now)

    def rekey_ike(self, now: float) -> None:
        """New keys for the IKE SA, now."""
        self.machine.signal(Signal.REKEY_IKE, None, now)

    def moved(self, now: float) -> None:
        """Tell that this machine has another address towards the gateway than before."""
        if self.state is State.ESTABLISHED:
            self.associations.mobility.note_move()
            self._look_after(now)

    def traffic_sent(self, now: float, octets: int = 0, sequence: int = 0) -> bool:
        """See :meth:`Established.traffic_sent`."""
        return self.established.traffic_sent(now, octets, sequence)

    def traffic_received(self, now: float) -> None:
        """See :meth:`Established.traffic_received`; a DELETE is not waited for any longer by it."""
        if self.state is State.ESTABLISHED:
            self.established.traffic_received(now)

    def receive(self, data: bytes, source: Endpoint, now: float) -> None:
        """Take a datagram; on the encapsulation port it starts with the non-ESP marker. Never raises for content."""
        data = self._without_marker(data, source)
        if not data:
            return
        try:
            message = parse_message_untrusted(data)
            self._take(message, now)
        except Malformed as problem:
            self.end.ignore(str(problem))

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        times = [self.sa.outstanding.due] if self.sa.outstanding else []
        times += self.end.others_due()
        if self.init.hint is not None and self.state is State.INIT_SENT:
            times.append(self.init.hint_due)
        if self.state is State.ESTABLISHED:
            times.append(self.established.next_timer())
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        """Retransmit, give up, or keep the address translation alive (RFC 3948 §2.3)."""
        if self.init.hint is not None and self.state is State.INIT_SENT and now >= self.init.hint_due:
            self.machine.signal(Signal.GIVE_UP, None, now)
            return
        self.end.look_after_others(now)
        if self.end.retransmit(now, self.sa):
            self.machine.signal(Signal.GIVE_UP, None, now)
        if self.state is State.ESTABLISHED:
            self._look_after(now)

    def is_another_answer(self, data: bytes, source: Endpoint) -> bool:
        """Whether a datagram is another answer to the first message than the one in use."""
        data = self._without_marker(data, source)
        try:
            header = parse_header_untrusted(data)
        except Malformed:
            return False
        return (
            header.exchange == ExchangeType.IKE_SA_INIT
            and header.is_response
            and header.initiator_spi == self.sa.spi_i
            and data != self.handshake.init_response
        )

    def fork(self, now: float) -> Initiator:
        """Another one that has sent the same first message, for another answer to it."""
        other = Initiator(self.config, self.end.random)
        other.sa.spi_i = self.sa.spi_i
        other.handshake.nonce_i, other.handshake.init_request = self.handshake.nonce_i, self.handshake.init_request
        other.init.take_over(self.init)
        other.end.ask([], 0, now, 0.0, other.sa)
        other.machine.state = State.INIT_SENT
        return other

    def export_keys(self) -> KeyExport:
        """For an analyser, and only when the user has asked for it."""
        if self.keys is None:
            raise ProgramFault("keys are to be exported before there are any")
        child = self.child
        return KeyExport(
            self.sa.spi_i,
            self.sa.spi_r,
            self.keys,
            child.keys if child else None,
            child.spi_in if child else 0,
            child.spi_out if child else 0,
        )

    # Inside.

    def _without_marker(self, data: bytes, source: Endpoint) -> bytes:
        """The IKE message in a datagram; empty where it holds none."""
        if source[1] != self.config.encapsulation_port:
            return data
        return data[4:] if data[:4] == NON_ESP_MARKER else b""

    def _look_after(self, now: float) -> None:
        for signal in self.established.due_signals(now):
            self.machine.signal(signal, None, now)

    def _take(self, message: Message, now: float) -> None:
        try:
            whole = self.end.receive(message)
            if whole is not None:
                self._dispatch(whole, now)
        except Unusable as problem:
            if self.end.note_unusable(message, problem):
                answers = message.header.is_response
                self.machine.signal(Signal.UNUSABLE_RESPONSE if answers else Signal.UNUSABLE_REQUEST, message, now)

    def _dispatch(self, message: Message, now: float) -> None:
        header = message.header
        if self.end.at is not self.sa:
            self.associations.take_by_other_sa(message, now)
        elif header.is_response:
            signal = RESPONSES.get(ExchangeType(header.exchange)) if header.exchange in _EXCHANGES else None
            waiting = self.sa.outstanding
            awaited = waiting is not None and waiting.message_id == header.message_id
            if signal is None or not awaited:
                raise Malformed("a message was dropped", why="it answers no request of ours")
            self.machine.signal(signal, message, now)
        elif not self.end.take_answer_again(message):
            signal = REQUESTS.get(ExchangeType(header.exchange)) if header.exchange in _EXCHANGES else None
            if signal is None:
                raise Malformed("a message was dropped", why="its exchange is not expected")
            self.machine.signal(signal, message, now)
            if self.state is State.ESTABLISHED:
                self.established.traffic_received(now)

    # Handlers that concern more than one part.

    def on_init_response(self, message: Message, now: float) -> State:
        """IKE_SA_INIT is answered: IKE_AUTH follows once there are keys."""
        return self._authenticate_next(self.init.on_response(message, now), now)

    def on_intermediate(self, message: Message, now: float) -> State:
        """IKE_INTERMEDIATE is answered: IKE_AUTH follows."""
        return self._authenticate_next(self.init.on_intermediate(message, now), now)

    def _authenticate_next(self, state: State, now: float) -> State:
        return self.auth.begin(now) if state is State.PROOF_AWAITED else state

    def on_unusable(self, _: Message | None, now: float) -> State:
        """RFC 7296 §2.21.2: a message of the sign-in that cannot be used ends it."""
        why = self.end.unusable.why if self.end.unusable else ""
        self.end.fail(protocol_error(self.config, f"it sent what cannot be used: {why}"), now)
        return State.CLOSED

    def on_abandon(self, _: Message | None, now: float) -> State:
        """It is ended before there is anything to delete."""
        self.sa.outstanding = None
        self.end.events.append(Closed(now, by_peer=False))
        return State.CLOSED

    def on_give_up(self, _: Message | None, now: float) -> State:
        """No answer for too long, or none that is better than an unprotected error."""
        if self.init.hint is not None:
            self.end.fail(self.init.hint, now)
        elif self.auth.eap_refusal:
            self.end.fail(self.auth.refused(), now)
        else:
            host, port = self.peer
            complaint = f"; the last message from it was dropped: {self.ignored[-1]}" if self.ignored else ""
            where = "to the first message" if not self.init.reached else f"any more, in state {self.state}"
            why = f"no answer {where} for {self.config.backoff.give_up:g} seconds{complaint}"
            self.end.fail(GatewayUnreachable(f"the gateway {host} (UDP port {port}) does not answer", why=why), now)
        return State.CLOSED

    def on_nothing(self, _: Message | None, now: float) -> State:
        """Closing twice is closing once."""
        return self.state


_EXCHANGES = ExchangeType._value2member_map_
