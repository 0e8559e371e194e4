"""The responder in IKE_INTERMEDIATE and IKE_AUTH: the caller's sign-in, the gateway's proof, the first child SA."""

from __future__ import annotations

import hmac
from collections.abc import Callable

from cryptography import x509

from zesty_burrow.core.crypto.key_exchange import encapsulate
from zesty_burrow.core.eap.packet import parse_eap_untrusted
from zesty_burrow.core.eap.password import PasswordServer
from zesty_burrow.core.eap.peer import EapServer, ServerMethod
from zesty_burrow.core.eap.tls import TlsServer
from zesty_burrow.core.net import AddressRange, intersect, same_families
from zesty_burrow.errors import GatewayProtocolError, Malformed, ProgramFault, SignInRefused
from zesty_burrow.protocols.gateway_proof import caller_of
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Failed, SignedIn
from zesty_burrow.protocols.ikev2.initiator.config import RAW_KEY, SHARED_KEY
from zesty_burrow.protocols.ikev2.machine import authentication, ppk
from zesty_burrow.protocols.ikev2.machine.associations import Associations
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.handshake import Handshake
from zesty_burrow.protocols.ikev2.machine.negotiation import ranges_of, selectors
from zesty_burrow.protocols.ikev2.responder.config_payload import (
    configuration_reply,
    requested_addresses,
    requested_versions,
)
from zesty_burrow.protocols.ikev2.responder.table import (
    ResponderConfig,
    State,
)
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.keys import (
    IkeKeys,
    derive_child_keys,
    derive_ike_keys,
    shared_key_auth,
)
from zesty_burrow.protocols.ikev2.wire.message import Message, find, find_typed, notifications
from zesty_burrow.protocols.ikev2.wire.payloads import (
    Authentication,
    Certificate,
    CertificateRequest,
    Eap,
    Identification,
    KeyExchange,
    Notify,
    Payload,
    SecurityAssociation,
    TrafficSelectors,
)
from zesty_burrow.protocols.ikev2.wire.proposals import choose
from zesty_burrow.protocols.ikev2.wire.registry import (
    AuthMethod,
    CertEncoding,
    NotifyType,
    PayloadType,
    Protocol,
)
from zesty_burrow.records import replace


class CallerAuth:
    """The part of the responder that judges the caller's proof, proves the gateway, and grants the first child SA.

    ``account``: who the caller is, once that is known. ``until``: when the sign-in has to have been repeated.
    """

    def __init__(
        self, config: ResponderConfig, end: IkeEndpoint, handshake: Handshake, associations: Associations
    ) -> None:
        self.account = ""
        self.until = float("inf")
        self._config = config
        self._end = end
        self._handshake = handshake
        self._children = associations.children
        self._mobility = associations.mobility
        self._first: tuple[Payload, ...] = ()
        self._own_id = Identification(PayloadType.IDr, config.identity.type, config.identity.octets())
        self._peer_id: Identification | None = None
        self._eap: EapServer | None = None
        self._mixed = False

    def _refuse(self, message: Message, notification: NotifyType, now: float, why: str) -> State:
        self._end.respond(message, [Notify(notification)])
        error = SignInRefused if notification is NotifyType.AUTHENTICATION_FAILED else GatewayProtocolError
        self._end.events.append(Failed(now, error(f"{self.account or 'a caller'} was rejected", why=why)))
        return State.CLOSED

    # IKE_INTERMEDIATE (RFC 9242, RFC 9370 §2.2.2).

    def on_intermediate(self, message: Message, now: float) -> State:
        """The second key exchange: answered under the old keys, and then there are new ones."""
        value, keys = find(self._end.open(message), KeyExchange), self._end.keys
        if not self._handshake.extra_due or keys is None or value is None or value.group != keys.suite.extra:
            return self._refuse(
                message, NotifyType.INVALID_SYNTAX, now, "a second key exchange is not due, or is another one"
            )
        try:
            ciphertext, shared = encapsulate(value.data)
        except Malformed as problem:
            return self._refuse(message, NotifyType.INVALID_SYNTAX, now, str(problem))
        self._handshake.extra_due = False
        answer: list[Payload] = [KeyExchange(value.group, ciphertext)]
        self._handshake.intermediate.note_peer(keys, self._end.sa, message, initiator=True)
        header = self._end.sa.header(message.header.exchange, message.header.message_id, response=True)
        self._handshake.intermediate.note_own(keys, header, answer, initiator=False)
        self._end.respond(message, answer)
        spis = self._end.sa.spi_i, self._end.sa.spi_r
        self._end.sa.use_keys(
            derive_ike_keys(keys.suite, shared, self._handshake.nonce_i, self._handshake.nonce_r, *spis, keys)
        )
        return State.AUTH_AWAITED

    # IKE_AUTH (RFC 7296 §2.16).

    def on_first_auth(self, message: Message, now: float) -> State:
        """The caller's first IKE_AUTH message: its proof, or the wish for EAP."""
        payloads = self._end.open(message)
        if self._handshake.extra_due:
            return self._refuse(message, NotifyType.INVALID_SYNTAX, now, "the second key exchange was left out")
        self._peer_id = find_typed(payloads, Identification, PayloadType.IDi)
        if self._peer_id is None:
            return self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "it does not say who it is")
        self._first = payloads
        if find(payloads, Authentication) is not None:
            return self._take_proof(message, self._peer_id, now)
        # RFC 5998 §3: where the caller wants it, EAP-TLS alone proves the gateway as well.
        tls_alone = NotifyType.EAP_ONLY_AUTHENTICATION in notifications(payloads) and bool(self._config.callers.anchors)
        return self._begin_eap(
            message, [self._own_id, *([] if tls_alone else self._own_proof(b""))], tls_alone=tls_alone
        )

    def _begin_eap(self, message: Message, before: list[Payload], *, tls_alone: bool) -> State:
        config = self._config
        methods: list[Callable[[], ServerMethod]] = []
        if not tls_alone:
            name = config.identity.value.encode()
            methods.append(lambda: PasswordServer(config.password_of, self._end.random, name))
        if config.callers.anchors:
            methods.append(self._make_tls)
        self._eap = EapServer(methods)
        self._end.respond(message, [*before, Eap(self._eap.start().octets())])
        return State.SIGNING_IN

    def _make_tls(self) -> TlsServer:
        config = self._config
        chain, callers = [x509.load_der_x509_certificate(der) for der in config.certificates], config.callers
        return TlsServer(config.key, chain, lambda shown: caller_of(shown, callers.anchors, callers.wall_time()))

    def on_second_round(self, message: Message, now: float) -> State:
        """RFC 4739 §2.3: another identity, and EAP for it."""
        self._peer_id = find_typed(self._end.open(message), Identification, PayloadType.IDi)
        if self._peer_id is None:
            return self._refuse(message, NotifyType.INVALID_SYNTAX, now, "it does not say who the second round is for")
        return self._begin_eap(message, [], tls_alone=False)

    def _take_proof(self, message: Message, caller: Identification, now: float) -> State:
        """RFC 7296 §1.2: the caller proves itself at once; proof and child SA go back together."""
        try:
            payloads, said = self._settle_keys(self._first)
            if self._end.keys is None:
                raise ProgramFault("AUTH before there are keys")
            number = self._end.keys.suite.prf
            octets = self._callers_octets(self._end.keys, caller)
            self.account, key = authentication.check_caller(self._config.callers, payloads, caller, octets, number)
        except Malformed as problem:
            return self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, str(problem))
        if NotifyType.ANOTHER_AUTH_FOLLOWS in notifications(payloads):
            self._end.respond(message, [self._own_id, *self._own_proof(key), *said])
            self._handshake.mixing = False
            return State.SECOND_AWAITED
        if self._config.second_round:
            return self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "it announces no second round")
        self._end.events.append(SignedIn(now))
        self._end.respond(message, [self._own_id, *self._own_proof(key), *self.grant(now), *said])
        return State.ESTABLISHED

    def _settle_keys(self, payloads: tuple[Payload, ...]) -> tuple[tuple[Payload, ...], list[Payload]]:
        """Mix the additional key in where both have one (RFC 8784 §3); what to judge, and what to say."""
        key_of, required = self._config.additional_key_of, self._config.additional_required
        if not self._handshake.mixing or key_of is None or self._end.keys is None:
            if required and not self._mixed:
                raise Malformed("a caller is refused", why="it has no additional key, and one is needed here")
            return payloads, []
        self._mixed = True
        self._end.sa.keys, judged, said = ppk.taken_by_gateway(self._end.keys, key_of, required, payloads)
        return judged, said

    def _own_proof(self, callers_key: bytes) -> list[Payload]:
        """CERT and AUTH of the gateway."""
        if self._end.keys is None:
            raise ProgramFault("AUTH before there are keys")
        key = callers_key or (self._config.shared_key if self._config.proof == SHARED_KEY else b"")
        if key:
            value = shared_key_auth(self._end.keys.suite.prf, key, self._own_octets())
            return [Authentication(AuthMethod.SHARED_KEY_MIC, value)]
        asked = [one.encoding for one in self._first if isinstance(one, CertificateRequest)]
        if self._config.proof == RAW_KEY or asked == [CertEncoding.RAW_PUBLIC_KEY]:
            carried = [Certificate(CertEncoding.RAW_PUBLIC_KEY, authentication.public_octets(self._config.key))]
        else:
            carried = [Certificate(CertEncoding.X509_SIGNATURE, entry) for entry in self._config.certificates]
        return [*carried, signatures.sign(self._config.key, self._own_octets())]

    def _callers_octets(self, keys: IkeKeys, caller: Identification) -> bytes:
        return self._handshake.initiator_octets(keys, caller.body())

    def _own_octets(self) -> bytes:
        if self._end.keys is None:
            raise ProgramFault("AUTH before there are keys")
        return self._handshake.responder_octets(self._end.keys, self._own_id.body())

    def on_sign_in(self, message: Message, now: float) -> State:
        """A message of the sign-in by EAP."""
        carried = find(self._end.open(message), Eap)
        if carried is None or self._eap is None:
            return self._refuse(message, NotifyType.INVALID_SYNTAX, now, "no EAP packet where one was due")
        try:
            answer = self._eap.receive(parse_eap_untrusted(carried.data))
        except Malformed as problem:
            return self._refuse(message, NotifyType.INVALID_SYNTAX, now, str(problem))
        self.account = self._eap.peer_name
        self._end.respond(message, [Eap(answer.octets())])
        if self._eap.done:
            return State.CONFIRMING
        if not self._eap.failed:
            return State.SIGNING_IN
        why = "its password or certificate is not accepted"
        self._end.events.append(Failed(now, SignInRefused(f"{self.account!r} was refused", why=why)))
        return State.CLOSED

    def on_confirm(self, message: Message, now: float) -> State:
        """The caller's proof after EAP."""
        if self._end.keys is None or self._eap is None or self._peer_id is None:
            raise ProgramFault("AUTH before there are keys")
        try:
            payloads, said = self._settle_keys(self._end.open(message))
        except Malformed as problem:
            return self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, str(problem))
        auth = find(payloads, Authentication)
        number = self._end.keys.suite.prf
        octets = self._callers_octets(self._end.keys, self._peer_id)
        if auth is None or not hmac.compare_digest(auth.data, shared_key_auth(number, self._eap.msk, octets)):
            return self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "its AUTH payload is wrong")
        self._end.events.append(SignedIn(now))
        proof = Authentication(AuthMethod.SHARED_KEY_MIC, shared_key_auth(number, self._eap.msk, self._own_octets()))
        self._end.respond(message, [proof, *self.grant(now), *said])
        return State.ESTABLISHED

    def grant(self, now: float) -> list[Payload]:
        """CP, SA, TSi and TSr, or the error that takes the child SA's place (RFC 7296 §1.2)."""
        asked = find(self._first, SecurityAssociation)
        theirs_i = find_typed(self._first, TrafficSelectors, PayloadType.TSi)
        theirs_r = find_typed(self._first, TrafficSelectors, PayloadType.TSr)
        chosen = choose(asked.proposals, self._config.esp_offers, Protocol.ESP) if asked else None
        if chosen is None or theirs_i is None or theirs_r is None or self._end.keys is None:
            return [Notify(NotifyType.NO_PROPOSAL_CHOSEN)]
        proposal, suite = chosen
        inner = self._config.assign(self.account, requested_addresses(self._first))
        if inner is None:
            return [Notify(NotifyType.INTERNAL_ADDRESS_FAILURE)]
        wanted = requested_versions(self._first)
        inner = replace(inner, addresses=tuple(address for address in inner.addresses if address.version in wanted))
        own = [AddressRange(entry.ip.packed, entry.ip.packed) for entry in inner.addresses]
        local, remote = same_families(
            intersect(ranges_of(theirs_r), self._config.remote), intersect(ranges_of(theirs_i), own)
        )
        if not local or not remote:
            return [Notify(NotifyType.TS_UNACCEPTABLE)]
        # RFC 4303 §2.1: 0 to 255 are reserved; a set bit in the first octet keeps clear of them.
        spi_in = (int.from_bytes(self._end.random(4)) | 1 << 31).to_bytes(4)
        keys = derive_child_keys(self._end.keys, suite, self._handshake.nonce_i, self._handshake.nonce_r)
        spi_out = int.from_bytes(proposal.spi)
        self._children.child = ChildEstablished(
            now, int.from_bytes(spi_in), spi_out, keys, inner, local, remote, as_initiator=False, is_caller=False
        )
        self._end.events.append(self._children.child)
        self._end.patience = self._config.backoff.dead
        self._mobility.enabled = NotifyType.MOBIKE_SUPPORTED in notifications(self._first)
        limit = self._config.sign_in_seconds
        self.until = now + limit if limit else float("inf")
        return [
            *([Notify(NotifyType.MOBIKE_SUPPORTED)] if self._mobility.enabled else []),
            *([Notify(NotifyType.AUTH_LIFETIME, limit.to_bytes(4))] if limit else []),
            configuration_reply(inner),
            SecurityAssociation((replace(proposal, spi=spi_in),)),
            selectors(PayloadType.TSi, remote),
            selectors(PayloadType.TSr, local),
        ]
