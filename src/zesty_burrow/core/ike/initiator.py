"""The initiator (RFC 7296): from the first datagram to a child SA, and to its end.

Nothing of the user's is handed out before the gateway has proven itself: ``credentials`` is a function, and it
is called only from :class:`EapPeer`, which exists only once the proof is done.
"""

from __future__ import annotations

from zesty_burrow.core.eap.packet import parse_eap_untrusted
from zesty_burrow.core.eap.peer import EapPeer, PeerState
from zesty_burrow.core.ike import additional, negotiation, proofs
from zesty_burrow.core.ike.config import BY_EAP, TWO_ROUNDS, InitiatorConfig
from zesty_burrow.core.ike.events import (
    ChildEstablished,
    Closed,
    Endpoint,
    Failed,
    KeyExport,
    Negotiated,
    Proven,
    Reached,
    SignedIn,
)
from zesty_burrow.core.ike.initiator_table import REQUESTS, RESPONSES, TRANSITIONS, Signal, State
from zesty_burrow.core.ike.keyexchange import METHODS, KeyAgreement, make_key_agreement
from zesty_burrow.core.ike.keys import IkeKeys, derive_child_keys, derive_ike_keys, shared_key_auth, signed_octets
from zesty_burrow.core.ike.message import (
    Message,
    build_clear,
    find,
    find_typed,
    notifications,
    parse_message_untrusted,
    unknown_critical,
)
from zesty_burrow.core.ike.party import NON_ESP_MARKER, nat_detection_hash, with_marker
from zesty_burrow.core.ike.payloads import (
    Authentication,
    Eap,
    Identification,
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    SecurityAssociation,
)
from zesty_burrow.core.ike.proposals import accept_answer, build_proposals
from zesty_burrow.core.ike.registry import (
    AuthMethod,
    ExchangeType,
    NotifyType,
    PayloadType,
    Protocol,
    notify_in_words,
)
from zesty_burrow.core.ike.standing import KEEPALIVE_EVERY, Standing
from zesty_burrow.core.protection import Random
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    GatewayProtocolError,
    GatewayUnreachable,
    Malformed,
    NoAgreement,
    ProgramFault,
    SignInRefused,
)

MAX_INIT_ROUNDS = 6
HINT_GRACE = 1.0


class Initiator(Standing):
    """``start``, then the five calls: ``receive``, ``send``, ``next_timer``, ``handle_timer``, ``next_event``."""

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        super().__init__(config, random)
        self._cookie = b""
        self._rounds = 0
        self._agreement: KeyAgreement | None = None
        self._nonce = b""
        self._peer_nonce = b""
        self._init_request = b""
        self._init_response = b""
        self._spi_in = b""
        self._own_id = Identification(PayloadType.IDi, config.own_identity.type, config.own_identity.octets())
        self._peer_id: Identification | None = None
        self._peer_hashes: frozenset[int] = frozenset()
        self._mixing = False
        self._eap: EapPeer | None = None
        self._eap_at = 0.0
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

    def _fail(self, error: BurrowError, now: float) -> None:
        self.sa.outstanding = None
        self._events.append(Failed(now, error))
        self.state = State.CLOSED

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
        if NotifyType.COOKIE in told and self._rounds < MAX_INIT_ROUNDS:
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
            self._mixing = additional.is_agreed(config.additional, config.additional_required, every, config.gateway[0])
            first = self._first_auth()
        except NoAgreement as problem:
            self._fail(problem, now)
            return
        except Malformed as problem:
            # We cannot prove ourselves in a way that this gateway would take.
            self._fail(self._protocol_error(str(problem)), now)
            return
        self._request(ExchangeType.IKE_AUTH, first, now)
        self.state = State.PROOF_AWAITED

    def _first_auth(self) -> list[Payload]:
        """RFC 7296 §1.2, §2.16: with this side's proof, or without AUTH, which asks the gateway to use EAP.

        No INITIAL_CONTACT: several devices may share one account and the anonymous identity (§2.4 forbids it then).
        """
        config = self.config
        esp = build_proposals(config.esp_offers, Protocol.ESP, self._spi_in)
        identity = Identification(PayloadType.IDr, config.gateway_identity.type, config.gateway_identity.octets())
        return [
            self._own_id,
            *self._own_proof(),
            *self._announcements(),
            *negotiation.certificate_request(config),
            identity,
            negotiation.address_request(config.local),
            SecurityAssociation(esp),
            negotiation.selectors(PayloadType.TSi, config.local),
            negotiation.selectors(PayloadType.TSr, config.remote),
        ]

    def _announcements(self) -> list[Payload]:
        """RFC 5998 §3: the gateway's proof by EAP alone. RFC 4739 §2.1: a second round will follow."""
        if self.config.proof == BY_EAP:
            return [Notify(NotifyType.EAP_ONLY_AUTHENTICATION)]
        if self.config.method == TWO_ROUNDS:
            return [Notify(NotifyType.MULTIPLE_AUTH_SUPPORTED), Notify(NotifyType.ANOTHER_AUTH_FOLLOWS)]
        return []

    def _own_octets(self, keys: IkeKeys) -> bytes:
        """What this side's AUTH covers (RFC 7296 §2.15)."""
        return signed_octets(keys.suite.prf, self._init_request, self._peer_nonce, keys.sk_pi, self._own_id.body())

    def _own_proof(self) -> list[Payload]:
        if not self.config.proves_at_once:
            return []
        secret, hashes = self.config.credentials(), self._peer_hashes
        return self._proof(lambda keys: proofs.own_proof(secret, self._own_octets(keys), keys.suite.prf, hashes))

    def _proof(self, prove: additional.Prove) -> list[Payload]:
        """This side's proof, with the additional key mixed in where both have one."""
        if self.keys is None:
            raise ProgramFault("AUTH before there are keys")
        own = self.config.additional
        if not self._mixing or own is None:
            return prove(self.keys)
        return additional.proof_with(self.keys, own, self.config.additional_required, prove)

    def _settle_keys(self, payloads: tuple[Payload, ...]) -> None:
        """From the gateway's answer to this side's proof on the additional key is in use, or is not."""
        own = self.config.additional
        if self._mixing and own is not None and self.keys is not None:
            host, required = self.config.gateway[0], self.config.additional_required
            self.sa.keys = additional.keys_after(self.keys, own, required, payloads, host)
            self._mixing = False

    # IKE_AUTH (RFC 7296 §1.2, §2.15, §2.16).

    def _auth_payloads(self, message: Message, now: float) -> tuple[Payload, ...] | None:
        """What is inside an IKE_AUTH response; None after an error that ends the negotiation."""
        payloads = self._open(message)
        self.sa.answered(message.header.message_id)
        unknown = unknown_critical(payloads)
        if unknown is not None:
            # RFC 7296 §2.5: in a response that cannot be told to the gateway; the negotiation ends.
            self._fail(self._protocol_error(f"it sent a critical payload of unknown type {unknown}"), now)
            return None
        return payloads

    def _protocol_error(self, why: str) -> GatewayProtocolError:
        return GatewayProtocolError(f"the gateway {self.config.gateway[0]} broke the negotiation off", why=why)

    def _first_error(self, payloads: tuple[Payload, ...]) -> Notify | None:
        return next((entry for entry in payloads if isinstance(entry, Notify) and entry.is_error), None)

    def _on_proof(self, message: Message, now: float) -> None:
        payloads = self._auth_payloads(message, now)
        if payloads is None:
            return
        error = self._first_error(payloads)
        direct = self.config.proves_at_once
        if error is not None and (not direct or find(payloads, Authentication) is None):
            refused = direct and error.notification == NotifyType.AUTHENTICATION_FAILED
            self._fail(self._refused() if refused else self._protocol_error(notify_in_words(error.notification)), now)
            return
        try:
            self._peer_id = find_typed(payloads, Identification, PayloadType.IDr)
            if direct:
                self._settle_keys(payloads)
            octets = self._gateway_octets() if self._peer_id else b""
            number = self.keys.suite.prf if self.keys else 0
            by_eap = self.config.proof == BY_EAP and find(payloads, Authentication) is None
            if not by_eap:
                proof = proofs.check_proof(self.config, payloads, self._peer_id, octets, number)
                self._events.append(Proven(now, proof.subject, proof.findings))
            else:
                proofs.check_name(self.config, self._peer_id)
        except BurrowError as problem:
            self._fail(problem, now)
            return
        if direct and self.config.method != TWO_ROUNDS:
            self._events.append(SignedIn(now))
            self._establish(payloads, error, now)
            return
        self._eap = EapPeer(proofs.eap_method(self.config, self._random, by_eap, self._on_eap_proof))
        self.state = State.SIGNING_IN
        if direct:
            self._begin_second_round(now)
        else:
            self._advance_eap(payloads, now)

    def _begin_second_round(self, now: float) -> None:
        """RFC 4739 §2.3: another identity and no AUTH; the gateway answers with EAP."""
        other = proofs.second_identity(self.config)
        self._own_id = Identification(PayloadType.IDi, other.type, other.octets())
        self._request(ExchangeType.IKE_AUTH, [self._own_id], now)

    def _on_eap_proof(self, proof: negotiation.Proof) -> None:
        """The gateway has proven itself inside EAP, and nowhere else (RFC 5998)."""
        self._events.append(Proven(self._eap_at, proof.subject, proof.findings))

    def _gateway_octets(self) -> bytes:
        """What the gateway's AUTH covers (RFC 7296 §2.15)."""
        if self.keys is None or self._peer_id is None:
            raise ProgramFault("AUTH before there are keys")
        return signed_octets(
            self.keys.suite.prf, self._init_response, self._nonce, self.keys.sk_pr, self._peer_id.body()
        )

    def _advance_eap(self, payloads: tuple[Payload, ...], now: float) -> None:
        carried = find(payloads, Eap)
        if carried is None or self._eap is None or self.keys is None:
            self._fail(self._protocol_error("it sent no EAP packet where one was due"), now)
            return
        self._eap_at = now
        try:
            answer = self._eap.receive(parse_eap_untrusted(carried.data))
        except Malformed as problem:
            self._fail(self._protocol_error(str(problem)), now)
            return
        except BurrowError as problem:
            self._fail(problem, now)
            return
        if answer is not None:
            self._request(ExchangeType.IKE_AUTH, [Eap(answer.octets())], now)
        elif self._eap.state is PeerState.DONE:
            msk = self._eap.msk

            def prove(keys: IkeKeys) -> list[Payload]:
                value = shared_key_auth(keys.suite.prf, msk, self._own_octets(keys))
                return [Authentication(AuthMethod.SHARED_KEY_MIC, value)]

            self._request(ExchangeType.IKE_AUTH, self._proof(prove), now)
            self.state = State.CONFIRMING
        else:
            self._fail(self._refused(), now)

    def _refused(self) -> SignInRefused:
        return negotiation.refused_sign_in(self.config.gateway[0], self._eap.refusal if self._eap else None)

    def _on_sign_in(self, message: Message, now: float) -> None:
        payloads = self._auth_payloads(message, now)
        if payloads is None:
            return
        error = self._first_error(payloads)
        if error is None:
            self._advance_eap(payloads, now)
        elif error.notification == NotifyType.AUTHENTICATION_FAILED:
            self._fail(self._refused(), now)
        else:
            self._fail(self._protocol_error(notify_in_words(error.notification)), now)

    def _on_confirmed(self, message: Message, now: float) -> None:
        payloads = self._auth_payloads(message, now)
        if payloads is None:
            return
        error = self._first_error(payloads)
        auth = find(payloads, Authentication)
        if auth is None:
            if error is not None and error.notification != NotifyType.AUTHENTICATION_FAILED:
                self._fail(self._protocol_error(notify_in_words(error.notification)), now)
            else:
                self._fail(self._refused() if error else self._protocol_error("it sent no AUTH"), now)
            return
        try:
            self._settle_keys(payloads)
            negotiation.check_shared_auth(self.keys, self._eap, auth, self._gateway_octets())
        except BurrowError as problem:
            self._fail(problem, now)
            return
        self._events.append(SignedIn(now))
        self._establish(payloads, error, now)

    def _establish(self, payloads: tuple[Payload, ...], error: Notify | None, now: float) -> None:
        """The IKE SA stands; the child SA may still have failed (RFC 7296 §1.2, last paragraphs)."""
        if self.keys is None:
            raise ProgramFault("a child SA before there are keys")
        try:
            if error is not None:
                raise self._protocol_error(notify_in_words(error.notification))
            agreed = negotiation.read_child(self.config, payloads)
        except GatewayError as problem:
            self._events.append(Failed(now, problem))
            self._begin_close(now)
            return
        keys = derive_child_keys(self.keys, agreed.suite, self._nonce, self._peer_nonce)
        self.child = ChildEstablished(
            now, int.from_bytes(self._spi_in), agreed.spi_out, keys, agreed.inner, agreed.local, agreed.remote
        )
        self._events.append(self.child)
        self._alive_due = now + self.config.liveness_seconds
        self._rekey_due = now + self._a_little_less(self.config.child_seconds)
        self._keepalive_due = now + KEEPALIVE_EVERY
        self.state = State.ESTABLISHED

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
