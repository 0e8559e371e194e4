"""The initiator in IKE_AUTH: the gateway's proof, this side's sign-in, the first child SA (RFC 7296 §1.2, §2.16).

Nothing of the user's is handed out before the gateway has proven itself: ``credentials`` is a function, and it
is called only once the proof is done, or by the method that judges the proof itself.
"""

from __future__ import annotations

from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.eap.packet import parse_eap_untrusted
from zesty_burrow.core.eap.peer import EapPeer, PeerState
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    GatewayProtocolError,
    Malformed,
    ProgramFault,
    SignInRefused,
)
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Failed, Proven, SignedIn
from zesty_burrow.protocols.ikev2.initiator.config import BY_EAP, TWO_ROUNDS, InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.established import KEEPALIVE_EVERY, Established
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.machine import authentication, negotiation, ppk
from zesty_burrow.protocols.ikev2.machine.intermediate import Intermediate
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys, derive_child_keys, shared_key_auth, signed_octets
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    find,
    find_typed,
    notifications,
    unknown_critical,
)
from zesty_burrow.protocols.ikev2.wire.payloads import (
    Authentication,
    Eap,
    Identification,
    Notify,
    Payload,
    SecurityAssociation,
)
from zesty_burrow.protocols.ikev2.wire.proposals import build_proposals
from zesty_burrow.protocols.ikev2.wire.redirect import read_redirect_untrusted, sent_elsewhere
from zesty_burrow.protocols.ikev2.wire.registry import (
    AuthMethod,
    ExchangeType,
    NotifyType,
    PayloadType,
    Protocol,
    notify_in_words,
)


class IkeAuth(Established):
    """The base of the initiator, above what it does once it stands."""

    def __init__(self, config: InitiatorConfig, random: Random) -> None:
        super().__init__(config, random)
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
        self._between = Intermediate()

    def _fail(self, error: BurrowError, now: float) -> None:
        self.sa.outstanding = None
        self._events.append(Failed(now, error))
        self.state = State.CLOSED

    def _begin_auth(self, now: float) -> None:
        try:
            first = self._first_auth()
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
            negotiation.address_request(config.local, config.wanted),
            SecurityAssociation(esp),
            negotiation.selectors(PayloadType.TSi, config.local),
            negotiation.selectors(PayloadType.TSr, config.remote),
        ]

    def _announcements(self) -> list[Payload]:
        """RFC 4555 §3.1; RFC 5998 §3: the gateway's proof by EAP alone; RFC 4739 §2.1: a second round will follow."""
        said = [NotifyType.MOBIKE_SUPPORTED]
        if self.config.proof == BY_EAP:
            said.append(NotifyType.EAP_ONLY_AUTHENTICATION)
        if self.config.method == TWO_ROUNDS:
            said += [NotifyType.MULTIPLE_AUTH_SUPPORTED, NotifyType.ANOTHER_AUTH_FOLLOWS]
        return [Notify(one) for one in said]

    def _own_octets(self, keys: IkeKeys) -> bytes:
        """What this side's AUTH covers (RFC 7296 §2.15)."""
        number, between = keys.suite.prf, self._between.octets
        return signed_octets(number, self._init_request, self._peer_nonce, keys.sk_pi, self._own_id.body(), between)

    def _own_proof(self) -> list[Payload]:
        if not self.config.proves_at_once:
            return []
        secret, hashes = self.config.credentials(), self._peer_hashes
        return self._proof(
            lambda keys: authentication.own_proof(secret, self._own_octets(keys), keys.suite.prf, hashes)
        )

    def _proof(self, prove: ppk.Prove) -> list[Payload]:
        """This side's proof, with the additional key mixed in where both have one."""
        if self.keys is None:
            raise ProgramFault("AUTH before there are keys")
        own = self.config.additional
        if not self._mixing or own is None:
            return prove(self.keys)
        return ppk.proof_with(self.keys, own, self.config.additional_required, prove)

    def _settle_keys(self, payloads: tuple[Payload, ...]) -> None:
        """From the gateway's answer to this side's proof on the additional key is in use, or is not."""
        own = self.config.additional
        if self._mixing and own is not None and self.keys is not None:
            host, required = self.config.gateway[0], self.config.additional_required
            self.sa.keys = ppk.keys_after(self.keys, own, required, payloads, host)
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
                proof = authentication.check_proof(self.config, payloads, self._peer_id, octets, number)
                self._events.append(Proven(now, proof.subject, proof.findings))
            else:
                authentication.check_name(self.config, self._peer_id)
        except BurrowError as problem:
            self._fail(problem, now)
            return
        if direct and self.config.method != TWO_ROUNDS:
            self._events.append(SignedIn(now))
            self._establish(payloads, error, now)
            return
        self._eap = EapPeer(authentication.eap_method(self.config, self._random, by_eap, self._on_eap_proof))
        self.state = State.SIGNING_IN
        if direct:
            self._begin_second_round(now)
        else:
            self._advance_eap(payloads, now)

    def _begin_second_round(self, now: float) -> None:
        """RFC 4739 §2.3: another identity and no AUTH; the gateway answers with EAP."""
        other = authentication.second_identity(self.config)
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
            self.keys.suite.prf,
            self._init_response,
            self._nonce,
            self.keys.sk_pr,
            self._peer_id.body(),
            self._between.octets,
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
            elsewhere = read_redirect_untrusted(notifications(payloads), None)
            if elsewhere is not None:
                # RFC 5685 §6: the gateway has proven itself; it grants no child SA and names another.
                raise sent_elsewhere(self.config.gateway[0], elsewhere)
            if error is not None:
                raise self._protocol_error(notify_in_words(error.notification))
            agreed = negotiation.read_child(self.config, payloads)
        except GatewayError as problem:
            self._events.append(Failed(now, problem))
            self._begin_close(now)
            return
        self.mobile = NotifyType.MOBIKE_SUPPORTED in notifications(payloads)
        keys = derive_child_keys(self.keys, agreed.suite, self._nonce, self._peer_nonce)
        self.child = ChildEstablished(
            now, int.from_bytes(self._spi_in), agreed.spi_out, keys, agreed.inner, agreed.local, agreed.remote
        )
        self._events.append(self.child)
        self._take_sign_in_limit(payloads, now)
        self._alive_due = now + self.config.liveness_seconds
        self._rekey_due = now + self._a_little_less(self.config.child_seconds)
        self._keepalive_due = now + KEEPALIVE_EVERY
        self.state = State.ESTABLISHED
