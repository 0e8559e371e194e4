"""The initiator in IKE_SA_INIT and IKE_INTERMEDIATE (RFC 7296 §1.2, RFC 9242, RFC 9370 §2.2.2): keys are agreed on."""

from __future__ import annotations

from collections.abc import Mapping

from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement, MlKem768, make_key_agreement
from zesty_burrow.errors import BurrowError, Malformed, NoAgreement, ProgramFault
from zesty_burrow.protocols.ikev2.events import Negotiated, Reached
from zesty_burrow.protocols.ikev2.initiator.config import TWO_ROUNDS, InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.machine import negotiation, ppk
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint, nat_detection_hash, with_marker
from zesty_burrow.protocols.ikev2.machine.handshake import Handshake
from zesty_burrow.protocols.ikev2.machine.negotiation import protocol_error
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    Unusable,
    build_clear,
    check_critical,
    find,
    notifications,
    told_in_all,
)
from zesty_burrow.protocols.ikev2.wire.payloads import KeyExchange, Nonce, Notify, Payload, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted, sent_elsewhere
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol, notify_in_words

MAX_INIT_ROUNDS = 6
MAX_COOKIE = 64
"""RFC 7296 §2.6."""
HINT_GRACE = 1.0
"""Seconds in which a better answer than an unprotected error may come."""


class IkeInit:
    """The part of the initiator that agrees on keys.

    ``reached``: whether anything has come back. ``hint``: what an unprotected error says, until ``hint_due``.
    ``extra``: this side of the second key exchange.
    """

    def __init__(self, config: InitiatorConfig, end: IkeEndpoint, handshake: Handshake) -> None:
        self.reached = False
        self.hint: BurrowError | None = None
        self.hint_due = 0.0
        self._config = config
        self._end = end
        self._handshake = handshake
        self._cookie = b""
        self._rounds = 0
        self._agreement: KeyAgreement | None = None
        self.extra: MlKem768 | None = None

    def take_over(self, other: IkeInit) -> None:
        """The first message was sent by another; an answer to it is taken here."""
        self._agreement, self._cookie = other._agreement, other._cookie
        self._rounds = MAX_INIT_ROUNDS  # it is not sent again

    def forget_agreement(self) -> None:
        """No other answer is waited for."""
        self._agreement = None

    def _fail(self, error: BurrowError, now: float) -> State:
        self._end.fail(error, now)
        return State.CLOSED

    # IKE_SA_INIT (RFC 7296 §1.2).

    def on_start(self, _: Message | None, now: float) -> State:
        """Send the first message."""
        while self._end.sa.spi_i == bytes(8):
            self._end.sa.spi_i = self._end.random(8)
        self._handshake.nonce_i = self._end.random(32)
        self._agreement = make_key_agreement(self._config.ike_offers[0].groups[0], self._end.random)
        self._send_init(now)
        return State.INIT_SENT

    def _send_init(self, now: float) -> None:
        self._rounds += 1
        if self._agreement is None:
            raise ProgramFault("IKE_SA_INIT without a key")
        payloads = negotiation.init_payloads(
            self._config, self._agreement, self._handshake.nonce_i, self._cookie, self._end.sa.spi_i, self._end.peer
        )
        header = self._end.sa.header(ExchangeType.IKE_SA_INIT, 0, response=False)
        self._handshake.init_request = build_clear(header, payloads)
        encapsulated = self._end.peer[1] == self._config.encapsulation_port
        framed = with_marker(self._handshake.init_request, encapsulated)
        self._end.ask([framed], 0, now, 0.0, self._end.sa)

    def on_response(self, message: Message, now: float) -> State:
        """The gateway's answer: what is agreed on, or what to ask for instead. ``PROOF_AWAITED``: IKE_AUTH is next."""
        if not self.reached:
            self.reached = True
            self._end.events.append(Reached(now))
        told = notifications(message.payloads)
        elsewhere = read_redirect_untrusted(told, self._handshake.nonce_i)
        if elsewhere is not None:
            return self._fail(sent_elsewhere(self._config.gateway[0], elsewhere, proven=False), now)
        try:
            check_critical(message.payloads)
        except Unusable as problem:
            self._take_hint(protocol_error(self._config, problem.why), now)
            return State.INIT_SENT
        if NotifyType.COOKIE in told and self._rounds < MAX_INIT_ROUNDS:
            self._take_cookie(told[NotifyType.COOKIE].data, now)
        elif NotifyType.INVALID_KE_PAYLOAD in told and self._rounds < MAX_INIT_ROUNDS:
            self._change_group(told[NotifyType.INVALID_KE_PAYLOAD], now)
        elif errors := [entry for entry in told.values() if entry.is_error]:
            self._take_hint(negotiation.init_error(errors[0].notification, self._config.gateway[0]), now)
        else:
            return self._agree(message, now)
        return State.INIT_SENT

    def _take_cookie(self, cookie: bytes, now: float) -> None:
        if not 1 <= len(cookie) <= MAX_COOKIE:
            raise Malformed("a message was dropped", why=f"its cookie has {len(cookie)} octets (RFC 7296 §2.6)")
        self._cookie = cookie
        self._send_init(now)

    def _take_hint(self, error: BurrowError, now: float) -> None:
        """RFC 7296 §2.21.1: an unprotected error may be forged; wait a moment for a better answer."""
        if self.hint is None:
            # RFC 9329 §6.4: nobody else can answer in a byte stream.
            self.hint, self.hint_due = error, now + (0.0 if self._config.over_stream else HINT_GRACE)

    def _change_group(self, told: Notify, now: float) -> None:
        group = int.from_bytes(told.data) if len(told.data) == 2 else 0
        if self._agreement is None or group == self._agreement.group:
            raise Malformed("a message was dropped", why="it asks for the group that it was given")
        offered = {group for offer in self._config.ike_offers for group in offer.groups}
        if group not in offered or group not in METHODS:
            self._take_hint(negotiation.group_error(group, self._config.gateway[0]), now)
            return
        self._agreement = make_key_agreement(group, self._end.random)
        self._send_init(now)

    def _agree(self, message: Message, now: float) -> State:
        answer, value = find(message.payloads, SecurityAssociation), find(message.payloads, KeyExchange)
        nonce = find(message.payloads, Nonce)
        if answer is None or value is None or nonce is None or self._agreement is None:
            raise Malformed("an IKE_SA_INIT response is incomplete", why="SA, KE and nonce are needed")
        accepted = accept_answer(answer.proposals, self._config.ike_offers, Protocol.IKE)
        if accepted is None or accepted[1].group != value.group or value.group != self._agreement.group:
            raise Malformed("an IKE_SA_INIT response is refused", why="it chooses what was not offered")
        if message.header.responder_spi == bytes(8):
            raise Malformed("an IKE_SA_INIT response is refused", why="the responder's SPI is zero")
        suite = accepted[1]
        if not nonce.is_long_enough(suite.prf):
            raise Malformed("an IKE_SA_INIT response is refused", why="its nonce is too short (RFC 7296 §2.10)")
        shared = self._agreement.shared(value.data)
        every = notifications(message.payloads)
        why_not, mixing = self._missing(suite.extra, every)
        if why_not is not None:
            self._take_hint(why_not, now)
            return State.INIT_SENT
        self._end.sa.answered(0)
        self._end.sa.next_request_id = 0
        self._end.sa.spi_r = message.header.responder_spi
        self._handshake.nonce_r, self._handshake.init_response = nonce.data, message.raw
        self._end.sa.use_keys(
            derive_ike_keys(suite, shared, self._handshake.nonce_i, nonce.data, self._end.sa.spi_i, self._end.sa.spi_r)
        )
        self.hint = None
        self._handshake.peer_hashes = negotiation.announced_hashes(every)
        # RFC 9329 §7.5: a byte stream needs no fragments of ours; those of the gateway are taken.
        known = NotifyType.IKEV2_FRAGMENTATION_SUPPORTED in every
        self._end.sa.fragmenting = known and not self._config.over_stream
        # RFC 7296 §2.23: a gateway with several addresses sends a hash of each.
        hashes = told_in_all(message.payloads, NotifyType.NAT_DETECTION_SOURCE_IP)
        expected = nat_detection_hash(self._end.sa.spi_i, self._end.sa.spi_r, self._end.peer)
        self._end.events.append(Negotiated(now, suite, nat_there=bool(hashes) and expected not in hashes))
        # RFC 7296 §2.23: from here on port 4500, whether or not there is an address translator.
        self._end.peer = (self._end.peer[0], self._config.encapsulation_port)
        self._handshake.spi_in = negotiation.fresh_spi(self._end.random)
        self._handshake.mixing = mixing
        return self.begin_intermediate(now) if suite.extra else State.PROOF_AWAITED

    def _missing(self, extra: int, told: Mapping[int, Notify]) -> tuple[BurrowError | None, bool]:
        """What the gateway would have to know as well, if anything; and whether an additional key is mixed in."""
        config, host = self._config, self._config.gateway[0]
        if config.method == TWO_ROUNDS and NotifyType.MULTIPLE_AUTH_SUPPORTED not in told:
            why = "the profile signs in in two rounds (RFC 4739), and the gateway knows only one"
            return NoAgreement(f"the gateway {host} and the profile cannot agree", why=why), False
        if extra and NotifyType.INTERMEDIATE_EXCHANGE_SUPPORTED not in told:
            why = "it chose an additional key exchange and has no exchange for it (RFC 9370 §2.2.1)"
            return protocol_error(config, why), False
        try:
            return None, ppk.is_agreed(config.additional, config.additional_required, told, host)
        except NoAgreement as problem:
            return problem, False

    # IKE_INTERMEDIATE (RFC 9242, RFC 9370 §2.2.2).

    def begin_intermediate(self, now: float) -> State:
        """The first key exchange is done: send this side of the second."""
        if self._end.keys is None:
            raise ProgramFault("a second key exchange before the first")
        self.extra = MlKem768(self._end.random)
        payloads: list[Payload] = [KeyExchange(self.extra.group, self.extra.public)]
        header = self._end.sa.header(ExchangeType.IKE_INTERMEDIATE, self._end.sa.next_request_id + 1, response=False)
        self._handshake.intermediate.note_own(self._end.keys, header, payloads, initiator=True)
        self._end.request(ExchangeType.IKE_INTERMEDIATE, payloads, now)
        return State.INTERMEDIATE

    def on_intermediate(self, message: Message, now: float) -> State:
        """The gateway's half of the second key exchange."""
        payloads = self._end.open(message)
        value = find(payloads, KeyExchange)
        error = next((entry for entry in payloads if isinstance(entry, Notify) and entry.is_error), None)
        if error is not None:
            return self._fail(protocol_error(self._config, notify_in_words(error.notification)), now)
        keys = self._end.keys
        if value is None or self.extra is None or keys is None or value.group != self.extra.group:
            return self._fail(protocol_error(self._config, "it sent no second key exchange where one was due"), now)
        try:
            shared = self.extra.shared(value.data)
        except Malformed as problem:
            return self._fail(protocol_error(self._config, str(problem)), now)
        self._handshake.intermediate.note_peer(keys, self._end.sa, message, initiator=False)
        self._end.sa.answered(message.header.message_id)
        self.extra = None
        nonces, spis = (self._handshake.nonce_i, self._handshake.nonce_r), (self._end.sa.spi_i, self._end.sa.spi_r)
        self._end.sa.use_keys(derive_ike_keys(keys.suite, shared, *nonces, *spis, keys))
        return State.PROOF_AWAITED
