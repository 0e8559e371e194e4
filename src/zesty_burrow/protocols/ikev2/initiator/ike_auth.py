"""The initiator in IKE_AUTH: the gateway's proof, this side's sign-in, the first child SA (RFC 7296 §1.2, §2.16).

Nothing of the user's is handed out before the gateway has proven itself: ``credentials`` is a function, and it
is called only once the proof is done, or by the method that judges the proof itself.
"""

from __future__ import annotations

from zesty_burrow.core.eap.packet import parse_eap_untrusted
from zesty_burrow.core.eap.peer import EapPeer, PeerState
from zesty_burrow.errors import (
    BurrowError,
    GatewayError,
    Malformed,
    ProgramFault,
    SignInRefused,
)
from zesty_burrow.protocols.gateway_proof import Proof
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Failed, Proven, SignedIn
from zesty_burrow.protocols.ikev2.initiator.config import BY_EAP, TWO_ROUNDS, InitiatorConfig
from zesty_burrow.protocols.ikev2.initiator.established import Established
from zesty_burrow.protocols.ikev2.initiator.table import State
from zesty_burrow.protocols.ikev2.machine import authentication, negotiation, ppk
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.handshake import Handshake
from zesty_burrow.protocols.ikev2.wire.keys import IkeKeys, derive_child_keys, shared_key_auth
from zesty_burrow.protocols.ikev2.wire.message import (
    Message,
    find,
    find_typed,
    notifications,
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


class IkeAuth:
    """The part of the initiator that proves itself, and has the gateway prove itself."""

    def __init__(
        self, config: InitiatorConfig, end: IkeEndpoint, handshake: Handshake, established: Established
    ) -> None:
        self._config = config
        self._end = end
        self._handshake = handshake
        self._established = established
        self.own_id = Identification(PayloadType.IDi, config.own_identity.type, config.own_identity.octets())
        self._peer_id: Identification | None = None
        self._eap: EapPeer | None = None
        self._eap_at = 0.0

    def _fail(self, error: BurrowError, now: float) -> State:
        self._end.fail(error, now)
        return State.CLOSED

    def begin(self, now: float) -> State:
        """IKE_SA_INIT is done: prove ourselves, or ask for EAP."""
        try:
            first = self._first_auth()
        except Malformed as problem:
            # We cannot prove ourselves in a way that this gateway would take.
            return self._fail(negotiation.protocol_error(self._config, str(problem)), now)
        self._end.request(ExchangeType.IKE_AUTH, first, now)
        return State.PROOF_AWAITED

    def _first_auth(self) -> list[Payload]:
        """RFC 7296 §1.2, §2.16: with this side's proof, or without AUTH, which asks the gateway to use EAP.

        No INITIAL_CONTACT: several devices may share one account and the anonymous identity (§2.4 forbids it then).
        """
        config = self._config
        esp = build_proposals(config.esp_offers, Protocol.ESP, self._handshake.spi_in)
        # A pattern is no identity that a gateway could have.
        named = () if config.gateway_identity.is_pattern else (config.gateway_identity,)
        return [
            self.own_id,
            *self._own_proof(),
            *self._announcements(),
            *negotiation.certificate_request(config),
            *(Identification(PayloadType.IDr, one.type, one.octets()) for one in named),
            negotiation.address_request(config.local, config.wanted),
            SecurityAssociation(esp),
            negotiation.selectors(PayloadType.TSi, config.local),
            negotiation.selectors(PayloadType.TSr, config.remote),
        ]

    def _announcements(self) -> list[Payload]:
        """RFC 4555 §3.1; RFC 5998 §3: the gateway's proof by EAP alone; RFC 4739 §2.1: a second round will follow."""
        said = [NotifyType.MOBIKE_SUPPORTED]
        if self._config.proof == BY_EAP:
            said.append(NotifyType.EAP_ONLY_AUTHENTICATION)
        if self._config.method == TWO_ROUNDS:
            said += [NotifyType.MULTIPLE_AUTH_SUPPORTED, NotifyType.ANOTHER_AUTH_FOLLOWS]
        return [Notify(one) for one in said]

    def _own_octets(self, keys: IkeKeys) -> bytes:
        return self._handshake.initiator_octets(keys, self.own_id.body())

    def _own_proof(self) -> list[Payload]:
        if not self._config.proves_at_once:
            return []
        secret, hashes = self._config.credentials(), self._handshake.peer_hashes
        return self._proof(
            lambda keys: authentication.own_proof(secret, self._own_octets(keys), keys.suite.prf, hashes)
        )

    def _proof(self, prove: ppk.Prove) -> list[Payload]:
        """This side's proof, with the additional key mixed in where both have one."""
        if self._end.keys is None:
            raise ProgramFault("AUTH before there are keys")
        own = self._config.additional
        if not self._handshake.mixing or own is None:
            return prove(self._end.keys)
        return ppk.proof_with(self._end.keys, own, self._config.additional_required, prove)

    def _settle_keys(self, payloads: tuple[Payload, ...]) -> None:
        """From the gateway's answer to this side's proof on the additional key is in use, or is not."""
        own = self._config.additional
        if self._handshake.mixing and own is not None and self._end.keys is not None:
            host, required = self._config.gateway[0], self._config.additional_required
            self._end.sa.keys = ppk.keys_after(self._end.keys, own, required, payloads, host)
            self._handshake.mixing = False

    # IKE_AUTH (RFC 7296 §1.2, §2.15, §2.16).

    def _auth_payloads(self, message: Message) -> tuple[Payload, ...]:
        """What is inside an IKE_AUTH response."""
        payloads = self._end.open(message)
        self._end.sa.answered(message.header.message_id)
        return payloads

    def _first_error(self, payloads: tuple[Payload, ...]) -> Notify | None:
        return next((entry for entry in payloads if isinstance(entry, Notify) and entry.is_error), None)

    def on_proof(self, message: Message, now: float) -> State:
        """The gateway's first IKE_AUTH message: its proof."""
        payloads = self._auth_payloads(message)
        error = self._first_error(payloads)
        direct = self._config.proves_at_once
        if error is not None and (not direct or find(payloads, Authentication) is None):
            if direct:
                return self._fail(self._error_of(error), now)
            return self._fail(negotiation.protocol_error(self._config, notify_in_words(error.notification)), now)
        try:
            self._peer_id = find_typed(payloads, Identification, PayloadType.IDr)
            if direct:
                self._settle_keys(payloads)
            octets = self._gateway_octets() if self._peer_id else b""
            number = self._end.keys.suite.prf if self._end.keys else 0
            by_eap = self._config.proof == BY_EAP and find(payloads, Authentication) is None
            if not by_eap:
                proof = authentication.check_proof(self._config, payloads, self._peer_id, octets, number)
                self._end.events.append(Proven(now, proof.subject, proof.findings))
            else:
                authentication.check_name(self._config, self._peer_id)
        except BurrowError as problem:
            return self._fail(problem, now)
        elsewhere = read_redirect_untrusted(notifications(payloads), None)
        if elsewhere is not None and not by_eap and not direct:
            # RFC 5685 §6: the gateway has proven itself and asks for nothing; no IKE SA has come to be.
            return self._fail(sent_elsewhere(self._config.gateway[0], elsewhere), now)
        if direct and self._config.method != TWO_ROUNDS:
            self._end.events.append(SignedIn(now))
            return self._establish(payloads, error, now)
        self._eap = EapPeer(authentication.eap_method(self._config, self._end.random, by_eap, self._on_eap_proof))
        if direct:
            self._begin_second_round(now)
            return State.SIGNING_IN
        return self._advance_eap(payloads, now)

    def _begin_second_round(self, now: float) -> None:
        """RFC 4739 §2.3: another identity and no AUTH; the gateway answers with EAP."""
        other = authentication.second_identity(self._config)
        self.own_id = Identification(PayloadType.IDi, other.type, other.octets())
        self._end.request(ExchangeType.IKE_AUTH, [self.own_id], now)

    def _on_eap_proof(self, proof: Proof) -> None:
        """The gateway has proven itself inside EAP, and nowhere else (RFC 5998)."""
        self._end.events.append(Proven(self._eap_at, proof.subject, proof.findings))

    def _gateway_octets(self) -> bytes:
        if self._end.keys is None or self._peer_id is None:
            raise ProgramFault("AUTH before there are keys")
        return self._handshake.responder_octets(self._end.keys, self._peer_id.body())

    def _advance_eap(self, payloads: tuple[Payload, ...], now: float) -> State:
        carried = find(payloads, Eap)
        if carried is None or self._eap is None or self._end.keys is None:
            return self._fail(negotiation.protocol_error(self._config, "it sent no EAP packet where one was due"), now)
        self._eap_at = now
        try:
            answer = self._eap.receive(parse_eap_untrusted(carried.data))
        except Malformed as problem:
            return self._fail(negotiation.protocol_error(self._config, str(problem)), now)
        except BurrowError as problem:
            return self._fail(problem, now)
        if answer is not None:
            self._end.request(ExchangeType.IKE_AUTH, [Eap(answer.octets())], now)
            return State.SIGNING_IN
        if self._eap.state is not PeerState.DONE:
            return self._fail(self.refused(), now)
        msk = self._eap.msk

        def prove(keys: IkeKeys) -> list[Payload]:
            value = shared_key_auth(keys.suite.prf, msk, self._own_octets(keys))
            return [Authentication(AuthMethod.SHARED_KEY_MIC, value)]

        self._end.request(ExchangeType.IKE_AUTH, self._proof(prove), now)
        return State.CONFIRMING

    @property
    def eap_refusal(self) -> bool:
        """Whether the gateway has said inside EAP that it refuses; it may never say so outside."""
        return self._eap is not None and self._eap.refusal is not None

    def refused(self) -> SignInRefused:
        """The gateway does not accept the credentials."""
        return negotiation.refused_sign_in(self._config.gateway[0], self._eap.refusal if self._eap else None)

    def on_sign_in(self, message: Message, now: float) -> State:
        """A message of the sign-in by EAP."""
        payloads = self._auth_payloads(message)
        error = self._first_error(payloads)
        if error is None:
            return self._advance_eap(payloads, now)
        return self._fail(self._error_of(error), now)

    def on_confirmed(self, message: Message, now: float) -> State:
        """The gateway's answer to our proof after EAP."""
        payloads = self._auth_payloads(message)
        error = self._first_error(payloads)
        auth = find(payloads, Authentication)
        if auth is None:
            return self._fail(
                self._error_of(error) if error else negotiation.protocol_error(self._config, "it sent no AUTH"), now
            )
        try:
            self._settle_keys(payloads)
            negotiation.check_shared_auth(self._end.keys, self._eap, auth, self._gateway_octets())
        except BurrowError as problem:
            return self._fail(problem, now)
        self._end.events.append(SignedIn(now))
        return self._establish(payloads, error, now)

    def _error_of(self, told: Notify) -> BurrowError:
        if told.notification == NotifyType.AUTHENTICATION_FAILED:
            return self.refused()
        return negotiation.protocol_error(self._config, notify_in_words(told.notification))

    def _establish(self, payloads: tuple[Payload, ...], error: Notify | None, now: float) -> State:
        """The IKE SA is there; the child SA may still have failed (RFC 7296 §1.2, last paragraphs)."""
        if self._end.keys is None:
            raise ProgramFault("a child SA before there are keys")
        try:
            elsewhere = read_redirect_untrusted(notifications(payloads), None)
            if elsewhere is not None:
                # RFC 5685 §6: the gateway has proven itself; it grants no child SA and names another.
                raise sent_elsewhere(self._config.gateway[0], elsewhere)
            if error is not None:
                raise negotiation.protocol_error(self._config, notify_in_words(error.notification))
            agreed = negotiation.read_child(self._config, payloads)
        except GatewayError as problem:
            self._end.events.append(Failed(now, problem))
            return self._established.begin_close(now)
        keys = derive_child_keys(self._end.keys, agreed.suite, self._handshake.nonce_i, self._handshake.nonce_r)
        spis = int.from_bytes(self._handshake.spi_in), agreed.spi_out
        child = ChildEstablished(now, *spis, keys, agreed.inner, agreed.local, agreed.remote)
        return self._established.begin(child, payloads, now)
