"""The initiator (RFC 7296): from the first datagram to a child SA, and to its end."""

from __future__ import annotations

from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement, MlKem768, make_key_agreement
from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.net import Endpoint
from zesty_burrow.errors import (
    BurrowError,
    GatewayUnreachable,
    Malformed,
    NoAgreement,
    ProgramFault,
)
from zesty_burrow.protocols.ikev2.events import Closed, KeyExport, Negotiated, Reached
from zesty_burrow.protocols.ikev2.initiator.config import TWO_ROUNDS, InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.ike_auth import IkeAuth
from zesty_burrow.protocols.ikev2.initiator.table import REQUESTS, RESPONSES, TRANSITIONS, Signal, State
from zesty_burrow.protocols.ikev2.machine import negotiation, ppk
from zesty_burrow.protocols.ikev2.machine.endpoint import NON_ESP_MARKER, nat_detection_hash, with_marker
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    build_clear,
    find,
    notifications,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.payloads import (
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    SecurityAssociation,
)
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted, sent_elsewhere
from zesty_burrow.protocols.ikev2.wire.registry import (
    ExchangeType,
    NotifyType,
    Protocol,
    notify_in_words,
)

MAX_INIT_ROUNDS = 6
HINT_GRACE = 1.0


class Initiator(IkeAuth):
    """``start``, then the five calls: ``receive``, ``send``, ``next_timer``, ``handle_timer``, ``next_event``."""

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        super().__init__(config, random)
        self._cookie = b""
        self._rounds = 0
        self._agreement: KeyAgreement | None = None
        self._extra: MlKem768 | None = None
        self._hint: BurrowError | None = None
        self._hint_due = 0.0
        self._reached = False

    # Calls.

    def start(self, now: float) -> None:
        """Begin the negotiation."""
        self._signal(Signal.START, now, None)

    def close(self, now: float) -> None:
        """End it: with a DELETE if the gateway knows us, at once otherwise."""
        self._signal(Signal.CLOSE, now, None)

    def receive(self, data: bytes, source: Endpoint, now: float) -> None:
        """Take a datagram; on the encapsulation port it starts with the non-ESP marker. Never raises for content."""
        if source[1] == self.config.encapsulation_port:
            if data[:4] != NON_ESP_MARKER:
                return
            data = data[4:]
        try:
            message = parse_message_untrusted(data)
            self._choose_sa(message)
            again = self._at.answer_to_old_fragment(message)
            self._out.extend(again or ())
            whole = self._at.whole(message) if again is None else None
            if whole is not None:
                self._dispatch(whole, now)
        except Malformed as problem:
            self._ignore(str(problem))

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        times = [self.sa.outstanding.due] if self.sa.outstanding else []
        times += self._others_due()
        if self._hint is not None and self.state is State.INIT_SENT:
            times.append(self._hint_due)
        if self.state is State.ESTABLISHED:
            times += [self._keepalive_due, self._alive_due, self._ike_due if self._ike_due is not None else 0.0]
            times += [self._rekey_due] if self._rekey_due is not None else []
            times += [0.0] if self._update_due and self.sa.outstanding is None else []
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        """Retransmit, give up, or keep the address translation alive (RFC 3948 §2.3)."""
        if self._hint is not None and self.state is State.INIT_SENT and now >= self._hint_due:
            self._signal(Signal.GIVE_UP, now, None)
            return
        self._look_after_others(now)
        if self._retransmit(now, self.sa):
            self._signal(Signal.GIVE_UP, now, None)
        if self.state is State.ESTABLISHED:
            self._look_after(now)

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

    def _signal(self, signal: Signal, now: float, message: Message | None) -> None:
        transition = TRANSITIONS.get((self.state, signal))
        if transition is None:
            if message is None:
                raise ProgramFault(f"{signal} is not possible while {self.state}")
            raise Malformed("a message is out of place", why=f"{signal} while {self.state}")
        before = self.state
        getattr(self, transition.handler)(message, now)
        if self.state not in transition.targets:
            raise ProgramFault(f"{signal} led from {before} to {self.state}")

    def _dispatch(self, message: Message, now: float) -> None:
        header = message.header
        if self._at is not self.sa:
            self._take_backstage(message, now)
        elif header.is_response:
            signal = RESPONSES.get(ExchangeType(header.exchange)) if header.exchange in _EXCHANGES else None
            waiting = self.sa.outstanding
            awaited = waiting is not None and waiting.message_id == header.message_id
            if signal is None or not awaited:
                raise Malformed("a message was turned away", why="it answers no request of ours")
            self._signal(signal, now, message)
        else:
            self._take_request(message, now)

    def _take_request(self, message: Message, now: float) -> None:
        header = message.header
        if self._take_answer_again(message):
            return
        signal = REQUESTS.get(ExchangeType(header.exchange)) if header.exchange in _EXCHANGES else None
        if signal is None:
            raise Malformed("a message was turned away", why="its exchange is not expected")
        self._signal(signal, now, message)

    # IKE_SA_INIT (RFC 7296 §1.2).

    def _on_start(self, _: Message | None, now: float) -> None:
        while self.sa.spi_i == bytes(8):
            self.sa.spi_i = self._random(8)
        self._nonce = self._random(32)
        self._agreement = make_key_agreement(self.config.ike_offers[0].groups[0], self._random)
        self._send_init(now)
        self.state = State.INIT_SENT

    def _send_init(self, now: float) -> None:
        self._rounds += 1
        if self._agreement is None:
            raise ProgramFault("IKE_SA_INIT without a key")
        payloads = negotiation.init_payloads(
            self.config, self._agreement, self._nonce, self._cookie, self.sa.spi_i, self.peer
        )
        header = self.sa.header(ExchangeType.IKE_SA_INIT, 0, response=False)
        self._init_request = build_clear(header, payloads)
        encapsulated = self.peer[1] == self.config.encapsulation_port
        framed = with_marker(self._init_request, encapsulated)
        self._ask([framed], 0, now, 0.0, self.sa)

    def _on_init_response(self, message: Message, now: float) -> None:
        if not self._reached:
            self._reached = True
            self._events.append(Reached(now))
        told = notifications(message.payloads)
        elsewhere = read_redirect_untrusted(told, self._nonce)
        if elsewhere is not None:
            self._fail(sent_elsewhere(self.config.gateway[0], elsewhere), now)
        elif NotifyType.COOKIE in told and self._rounds < MAX_INIT_ROUNDS:
            self._cookie = told[NotifyType.COOKIE].data
            self._send_init(now)
        elif NotifyType.INVALID_KE_PAYLOAD in told and self._rounds < MAX_INIT_ROUNDS:
            self._change_group(told[NotifyType.INVALID_KE_PAYLOAD], now)
        elif errors := [entry for entry in told.values() if entry.is_error]:
            self._take_hint(negotiation.init_error(errors[0].notification, self.config.gateway[0]), now)
        else:
            self._agree(message, now)

    def _take_hint(self, error: BurrowError, now: float) -> None:
        """RFC 7296 §2.21.1: an unprotected error may be forged; wait a moment for a better answer."""
        if self._hint is None:
            self._hint, self._hint_due = error, now + HINT_GRACE

    def _change_group(self, told: Notify, now: float) -> None:
        wanted = int.from_bytes(told.data) if len(told.data) == 2 else 0
        if self._agreement is None or wanted == self._agreement.group:
            raise Malformed("a message was turned away", why="it asks for the group that it was given")
        offered = {group for offer in self.config.ike_offers for group in offer.groups}
        if wanted not in offered or wanted not in METHODS:
            self._take_hint(negotiation.group_error(wanted, self.config.gateway[0]), now)
            return
        self._agreement = make_key_agreement(wanted, self._random)
        self._send_init(now)

    def _agree(self, message: Message, now: float) -> None:
        answer, value = find(message.payloads, SecurityAssociation), find(message.payloads, KeyExchange)
        nonce = find(message.payloads, Nonce)
        if answer is None or value is None or nonce is None or self._agreement is None:
            raise Malformed("an IKE_SA_INIT response is incomplete", why="SA, KE and nonce are needed")
        accepted = accept_answer(answer.proposals, self.config.ike_offers, Protocol.IKE)
        if accepted is None or accepted[1].group != value.group or value.group != self._agreement.group:
            raise Malformed("an IKE_SA_INIT response is refused", why="it chooses what was not offered")
        if message.header.responder_spi == bytes(8):
            raise Malformed("an IKE_SA_INIT response is refused", why="the responder's SPI is zero")
        suite = accepted[1]
        shared = self._agreement.shared(value.data)
        self.sa.answered(0)
        self.sa.next_request_id = 0
        self.sa.spi_r = message.header.responder_spi
        self._peer_nonce, self._init_response = nonce.data, message.raw
        self.sa.use_keys(derive_ike_keys(suite, shared, self._nonce, nonce.data, self.sa.spi_i, self.sa.spi_r))
        self._agreement, self._hint = None, None
        every = notifications(message.payloads)
        if self.config.method == TWO_ROUNDS and NotifyType.MULTIPLE_AUTH_SUPPORTED not in every:
            why = "the profile signs in in two rounds (RFC 4739), and the gateway knows only one"
            self._fail(NoAgreement(f"the gateway {self.config.gateway[0]} and the profile cannot agree", why=why), now)
            return
        self._peer_hashes = negotiation.announced_hashes(every)
        self.sa.fragmenting = NotifyType.IKEV2_FRAGMENTATION_SUPPORTED in every
        told = every.get(NotifyType.NAT_DETECTION_SOURCE_IP)
        expected = nat_detection_hash(self.sa.spi_i, self.sa.spi_r, self.peer)
        self._events.append(Negotiated(now, suite, nat_there=told is not None and told.data != expected))
        # RFC 7296 §2.23: from here on port 4500, whether or not there is an address translator.
        self.peer = (self.peer[0], self.config.encapsulation_port)
        self._spi_in = negotiation.fresh_spi(self._random)
        try:
            config = self.config
            self._mixing = ppk.is_agreed(config.additional, config.additional_required, every, config.gateway[0])
        except NoAgreement as problem:
            self._fail(problem, now)
            return
        if not suite.extra:
            self._begin_auth(now)
        elif NotifyType.INTERMEDIATE_EXCHANGE_SUPPORTED in every:
            self._begin_between(now)
        else:
            why = "it chose an additional key exchange and has no exchange for it (RFC 9370 §2.2.1)"
            self._fail(self._protocol_error(why), now)

    # IKE_INTERMEDIATE (RFC 9242, RFC 9370 §2.2.2).

    def _begin_between(self, now: float) -> None:
        if self.keys is None:
            raise ProgramFault("a second key exchange before the first")
        self._extra = MlKem768(self._random)
        payloads: list[Payload] = [KeyExchange(self._extra.group, self._extra.public)]
        header = self.sa.header(ExchangeType.IKE_INTERMEDIATE, self.sa.next_request_id + 1, response=False)
        self._between.note_own(self.keys, header, payloads, initiator=True)
        self._request(ExchangeType.IKE_INTERMEDIATE, payloads, now)
        self.state = State.BETWEEN

    def _on_between(self, message: Message, now: float) -> None:
        payloads = self._open(message)
        value = find(payloads, KeyExchange)
        error = self._first_error(payloads)
        if error is not None:
            self._fail(self._protocol_error(notify_in_words(error.notification)), now)
            return
        keys = self.keys
        if value is None or self._extra is None or keys is None or value.group != self._extra.group:
            self._fail(self._protocol_error("it sent no second key exchange where one was due"), now)
            return
        try:
            shared = self._extra.shared(value.data)
        except Malformed as problem:
            self._fail(self._protocol_error(str(problem)), now)
            return
        self._between.note_peer(keys, self.sa, message, initiator=False)
        self.sa.answered(message.header.message_id)
        self._extra = None
        nonces, spis = (self._nonce, self._peer_nonce), (self.sa.spi_i, self.sa.spi_r)
        self.sa.use_keys(derive_ike_keys(keys.suite, shared, *nonces, *spis, keys))
        self._begin_auth(now)

    def _on_abandon(self, _: Message | None, now: float) -> None:
        self.sa.outstanding = None
        self._events.append(Closed(now, by_peer=False))
        self.state = State.CLOSED

    def _on_give_up(self, _: Message | None, now: float) -> None:
        if self._hint is not None:
            self._fail(self._hint, now)
        elif self._eap is not None and self._eap.refusal is not None:
            self._fail(self._refused(), now)
        else:
            host, port = self.peer
            complaint = f"; the last thing it sent was turned away: {self.ignored[-1]}" if self.ignored else ""
            where = "to the first message" if not self._reached else f"any more, while {self.state}"
            why = f"no answer {where} for {self.config.backoff.give_up:g} seconds{complaint}"
            self._fail(GatewayUnreachable(f"the gateway {host} (UDP port {port}) does not answer", why=why), now)


_EXCHANGES = ExchangeType._value2member_map_
