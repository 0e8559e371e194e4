"""The responder (RFC 7296): one IKE SA of a gateway. :mod:`gateway` holds many of them."""

from __future__ import annotations

import dataclasses
import hmac
from collections.abc import Callable

from cryptography import x509

from zesty_burrow.core.crypto.key_exchange import encapsulate
from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.eap.packet import parse_eap_untrusted
from zesty_burrow.core.eap.password import PasswordServer
from zesty_burrow.core.eap.peer import EapServer, ServerMethod
from zesty_burrow.core.eap.tls import TlsServer
from zesty_burrow.core.net import AddressRange, Endpoint, intersect, same_families
from zesty_burrow.errors import GatewayProtocolError, Malformed, ProgramFault, SignInRefused
from zesty_burrow.protocols.ikev2.events import ChildEstablished, Closed, Failed, SignedIn
from zesty_burrow.protocols.ikev2.initiator.config import RAW_KEY, SHARED_KEY
from zesty_burrow.protocols.ikev2.machine import authentication, ppk
from zesty_burrow.protocols.ikev2.machine.child_sa import ChildSaKeeper
from zesty_burrow.protocols.ikev2.machine.intermediate import Intermediate
from zesty_burrow.protocols.ikev2.machine.negotiation import ranges_of, selectors
from zesty_burrow.protocols.ikev2.responder.config_payload import (
    configuration_reply,
    requested_addresses,
    requested_versions,
)
from zesty_burrow.protocols.ikev2.responder.table import (
    REQUESTS,
    RESPONSES,
    TRANSITIONS,
    ResponderConfig,
    Signal,
    State,
)
from zesty_burrow.protocols.ikev2.wire import signatures
from zesty_burrow.protocols.ikev2.wire.keys import (
    IkeKeys,
    derive_child_keys,
    derive_ike_keys,
    shared_key_auth,
    signed_octets,
)
from zesty_burrow.protocols.ikev2.wire.message import Message, find, find_typed, notifications, unknown_critical
from zesty_burrow.protocols.ikev2.wire.payloads import (
    Authentication,
    Certificate,
    CertificateRequest,
    Delete,
    Eap,
    Identification,
    KeyExchange,
    Notify,
    Payload,
    SecurityAssociation,
    TrafficSelectors,
)
from zesty_burrow.protocols.ikev2.wire.proposals import choose
from zesty_burrow.protocols.ikev2.wire.redirect import write_redirect
from zesty_burrow.protocols.ikev2.wire.registry import (
    AuthMethod,
    CertEncoding,
    ExchangeType,
    NotifyType,
    PayloadType,
    Protocol,
)


class Responder(ChildSaKeeper):
    """Made by :class:`Gateway` once IKE_SA_INIT is answered; takes what is protected."""

    def __init__(self, config: ResponderConfig, random: Random, *, started: float) -> None:
        offers = config.ike_offers, config.esp_offers
        super().__init__(random, config.backoff, offers, ("", 0), 4500, is_initiator=False)
        self.config = config
        self.state = State.AUTH_AWAITED
        self.started = started
        self.init_request = b""
        self.init_response = b""
        self.nonce_i = b""
        self.nonce_r = b""
        self.account = ""
        self.sa.peer_request_id = 1
        self._first: tuple[Payload, ...] = ()
        self._own_id = Identification(PayloadType.IDr, config.identity.type, config.identity.octets())
        self._peer_id: Identification | None = None
        self._eap: EapServer | None = None
        self.mixing = False
        self._mixed = False
        self.between = Intermediate()
        self.extra_due = False
        self._sign_in_until = float("inf")

    # Calls.

    def receive(self, message: Message, source: Endpoint, now: float) -> None:
        """Take a message that carries our SPIs. Raises :class:`Malformed` for what has to be ignored."""
        header = message.header
        self._choose_sa(message)
        if header.exchange not in ExchangeType._value2member_map_:
            raise Malformed("a message was turned away", why="its exchange is not expected")
        again = self._at.answer_to_old_fragment(message)
        self._out.extend(again or ())
        whole = self._at.whole(message) if again is None else None
        if whole is not None:
            self._dispatch(whole, source, now)

    def _dispatch(self, message: Message, source: Endpoint, now: float) -> None:
        header, waiting = message.header, self.sa.outstanding
        if self._at is not self.sa:
            self._take_backstage(message, now)
            return
        if header.is_response:
            self._open(message)
            if waiting is None or waiting.message_id != header.message_id:
                raise Malformed("a message was turned away", why="it answers no request of ours")
            answered = RESPONSES.get(ExchangeType(header.exchange))
            if answered is None:
                raise Malformed("a message was turned away", why="its exchange is not expected")
            self._signal(answered, message, now)
            return
        if self._take_answer_again(message):
            return
        signal = REQUESTS.get(ExchangeType(header.exchange))
        if signal is None:
            raise Malformed("a message was turned away", why="its exchange is not expected")
        # RFC 7296 §2.23: answer to where an authentic request came from; follow a changed address translation.
        self.peer = source
        self._signal(signal, message, now)

    def adopt(self, keys: IkeKeys, *, fragmenting: bool) -> None:
        """Take what IKE_SA_INIT gave: keys, and whether long messages may go in parts."""
        self.sa.use_keys(keys)
        self.sa.fragmenting = fragmenting

    def close(self, now: float) -> None:
        """End the IKE SA with a DELETE."""
        self._signal(Signal.CLOSE, None, now)

    def probe(self, now: float) -> None:
        """Ask whether the peer is alive (RFC 7296 §2.4)."""
        self._signal(Signal.PROBE, None, now)

    def rekey(self, now: float) -> None:
        """New keys for the child SA, now."""
        self._signal(Signal.REKEY, None, now)

    def redirect(self, to: str, now: float) -> None:
        """Ask the caller to go to another gateway (RFC 5685 §5); it ends this IKE SA itself."""
        if self.state is State.ESTABLISHED and self.sa.outstanding is None:
            self._request(ExchangeType.INFORMATIONAL, [write_redirect(to)], now)

    def rekey_ike(self, now: float) -> None:
        """New keys for the IKE SA, now."""
        self._signal(Signal.REKEY_IKE, None, now)

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        times = self._others_due()
        if self.sa.outstanding is not None:
            times.append(self.sa.outstanding.due)
        elif self.state not in (State.ESTABLISHED, State.CLOSED):
            times.append(self.started + self.config.half_open_seconds)
        elif self.state is State.ESTABLISHED and self._sign_in_until < float("inf"):
            times.append(self._sign_in_until)
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        """Retransmit, or give up on a peer that has fallen silent."""
        self._look_after_others(now)
        half_open = self.state in (State.AUTH_AWAITED, State.SECOND_AWAITED, State.SIGNING_IN, State.CONFIRMING)
        if (half_open and now >= self.started + self.config.half_open_seconds) or (
            self.state is State.ESTABLISHED and now >= self._sign_in_until and self.sa.outstanding is None
        ):
            self._signal(Signal.CLOSE, None, now)
        elif self._retransmit(now, self.sa):
            self._signal(Signal.GIVE_UP, None, now)

    @property
    def is_caller(self) -> bool:
        return False

    # Inside.

    def _signal(self, signal: Signal, message: Message | None, now: float) -> None:
        transition = TRANSITIONS.get((self.state, signal))
        if transition is None:
            if message is None:
                raise ProgramFault(f"{signal} is not possible while {self.state}")
            raise Malformed("a message is out of place", why=f"{signal} while {self.state}")
        before = self.state
        getattr(self, transition.handler)(message, now)
        if self.state not in transition.targets:
            raise ProgramFault(f"{signal} led from {before} to {self.state}")

    def _refuse(self, message: Message, notification: NotifyType, now: float, why: str) -> None:
        self._respond(message, [Notify(notification)])
        error = SignInRefused if notification is NotifyType.AUTHENTICATION_FAILED else GatewayProtocolError
        self._events.append(Failed(now, error(f"{self.account or 'a caller'} was turned away", why=why)))
        self.state = State.CLOSED

    # IKE_INTERMEDIATE (RFC 9242, RFC 9370 §2.2.2).

    def _on_between(self, message: Message, now: float) -> None:
        """The second key exchange: answered under the old keys, and then there are new ones."""
        value, keys = find(self._open(message), KeyExchange), self.keys
        if not self.extra_due or keys is None or value is None or value.group != keys.suite.extra:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, "a second key exchange is not due, or is another one")
            return
        try:
            ciphertext, shared = encapsulate(value.data)
        except Malformed as problem:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, str(problem))
            return
        self.extra_due = False
        answer: list[Payload] = [KeyExchange(value.group, ciphertext)]
        self.between.note_peer(keys, self.sa, message, initiator=True)
        header = self.sa.header(message.header.exchange, message.header.message_id, response=True)
        self.between.note_own(keys, header, answer, initiator=False)
        self._respond(message, answer)
        spis = self.sa.spi_i, self.sa.spi_r
        self.sa.use_keys(derive_ike_keys(keys.suite, shared, self.nonce_i, self.nonce_r, *spis, keys))

    # IKE_AUTH (RFC 7296 §2.16).

    def _on_first_auth(self, message: Message, now: float) -> None:
        payloads = self._open(message)
        if self.extra_due:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, "the second key exchange was left out")
            return
        unknown = unknown_critical(payloads)
        if unknown is not None:
            self._respond(message, [Notify(NotifyType.UNSUPPORTED_CRITICAL_PAYLOAD, bytes([unknown]))])
            self.state = State.CLOSED
            return
        self._peer_id = find_typed(payloads, Identification, PayloadType.IDi)
        if self._peer_id is None:
            self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "it does not say who it is")
            return
        self._first = payloads
        if find(payloads, Authentication) is not None:
            self._take_proof(message, self._peer_id, now)
            return
        # RFC 5998 §3: where the caller wants it, EAP-TLS alone proves the gateway as well.
        tls_alone = NotifyType.EAP_ONLY_AUTHENTICATION in notifications(payloads) and bool(self.config.callers.anchors)
        self._begin_eap(message, [self._own_id, *([] if tls_alone else self._own_proof(b""))], tls_alone=tls_alone)

    def _begin_eap(self, message: Message, before: list[Payload], *, tls_alone: bool) -> None:
        config = self.config
        methods: list[Callable[[], ServerMethod]] = []
        if not tls_alone:
            name = config.identity.value.encode()
            methods.append(lambda: PasswordServer(config.password_of, self._random, name))
        if config.callers.anchors:
            methods.append(self._make_tls)
        self._eap = EapServer(methods)
        self._respond(message, [*before, Eap(self._eap.start().octets())])
        self.state = State.SIGNING_IN

    def _make_tls(self) -> TlsServer:
        config = self.config
        chain = [x509.load_der_x509_certificate(der) for der in config.certificates]
        return TlsServer(config.key, chain, lambda shown: authentication.check_tls_caller(config.callers, shown))

    def _on_second_round(self, message: Message, now: float) -> None:
        """RFC 4739 §2.3: another identity, and EAP for it."""
        self._peer_id = find_typed(self._open(message), Identification, PayloadType.IDi)
        if self._peer_id is None:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, "it does not say who the second round is for")
            return
        self._begin_eap(message, [], tls_alone=False)

    def _take_proof(self, message: Message, caller: Identification, now: float) -> None:
        """RFC 7296 §1.2: the caller proves itself at once; proof and child SA go back together."""
        try:
            payloads, said = self._settle_keys(self._first)
            if self.keys is None:
                raise ProgramFault("AUTH before there are keys")
            number = self.keys.suite.prf
            octets = self._callers_octets(self.keys, caller)
            self.account, key = authentication.check_caller(self.config.callers, payloads, caller, octets, number)
        except Malformed as problem:
            self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, str(problem))
            return
        if NotifyType.ANOTHER_AUTH_FOLLOWS in notifications(payloads):
            self._respond(message, [self._own_id, *self._own_proof(key), *said])
            self.mixing = False
            self.state = State.SECOND_AWAITED
            return
        if self.config.second_round:
            self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "it announces no second round")
            return
        self._events.append(SignedIn(now))
        self._respond(message, [self._own_id, *self._own_proof(key), *self._grant(now), *said])
        self.state = State.ESTABLISHED

    def _settle_keys(self, payloads: tuple[Payload, ...]) -> tuple[tuple[Payload, ...], list[Payload]]:
        """Mix the additional key in where both have one (RFC 8784 §3); what to judge, and what to say."""
        key_of, required = self.config.additional_key_of, self.config.additional_required
        if not self.mixing or key_of is None or self.keys is None:
            if required and not self._mixed:
                raise Malformed("a caller is refused", why="it has no additional key, and one is needed here")
            return payloads, []
        self._mixed = True
        self.sa.keys, judged, said = ppk.taken_by_gateway(self.keys, key_of, required, payloads)
        return judged, said

    def _own_proof(self, callers_key: bytes) -> list[Payload]:
        """CERT and AUTH of the gateway."""
        if self.keys is None:
            raise ProgramFault("AUTH before there are keys")
        key = callers_key or (self.config.shared_key if self.config.proof == SHARED_KEY else b"")
        if key:
            value = shared_key_auth(self.keys.suite.prf, key, self._own_octets())
            return [Authentication(AuthMethod.SHARED_KEY_MIC, value)]
        asked = [one.encoding for one in self._first if isinstance(one, CertificateRequest)]
        if self.config.proof == RAW_KEY or asked == [CertEncoding.RAW_PUBLIC_KEY]:
            carried = [Certificate(CertEncoding.RAW_PUBLIC_KEY, authentication.public_octets(self.config.key))]
        else:
            carried = [Certificate(CertEncoding.X509_SIGNATURE, entry) for entry in self.config.certificates]
        return [*carried, signatures.sign(self.config.key, self._own_octets())]

    def _callers_octets(self, keys: IkeKeys, caller: Identification) -> bytes:
        between = self.between.octets
        return signed_octets(keys.suite.prf, self.init_request, self.nonce_r, keys.sk_pi, caller.body(), between)

    def _own_octets(self) -> bytes:
        if self.keys is None:
            raise ProgramFault("AUTH before there are keys")
        return signed_octets(
            self.keys.suite.prf,
            self.init_response,
            self.nonce_i,
            self.keys.sk_pr,
            self._own_id.body(),
            self.between.octets,
        )

    def _on_sign_in(self, message: Message, now: float) -> None:
        carried = find(self._open(message), Eap)
        if carried is None or self._eap is None:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, "no EAP packet where one was due")
            return
        try:
            answer = self._eap.receive(parse_eap_untrusted(carried.data))
        except Malformed as problem:
            self._refuse(message, NotifyType.INVALID_SYNTAX, now, str(problem))
            return
        self.account = self._eap.peer_name
        self._respond(message, [Eap(answer.octets())])
        if self._eap.done:
            self.state = State.CONFIRMING
        elif self._eap.failed:
            self._events.append(
                Failed(
                    now,
                    SignInRefused(f"{self.account!r} was refused", why="its password or certificate is not accepted"),
                )
            )
            self.state = State.CLOSED

    def _on_confirm(self, message: Message, now: float) -> None:
        if self.keys is None or self._eap is None or self._peer_id is None:
            raise ProgramFault("AUTH before there are keys")
        try:
            payloads, said = self._settle_keys(self._open(message))
        except Malformed as problem:
            self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, str(problem))
            return
        auth = find(payloads, Authentication)
        number = self.keys.suite.prf
        octets = self._callers_octets(self.keys, self._peer_id)
        if auth is None or not hmac.compare_digest(auth.data, shared_key_auth(number, self._eap.msk, octets)):
            self._refuse(message, NotifyType.AUTHENTICATION_FAILED, now, "its AUTH payload is wrong")
            return
        self._events.append(SignedIn(now))
        proof = Authentication(AuthMethod.SHARED_KEY_MIC, shared_key_auth(number, self._eap.msk, self._own_octets()))
        self._respond(message, [proof, *self._grant(now), *said])
        self.state = State.ESTABLISHED

    def _grant(self, now: float) -> list[Payload]:
        """CP, SA, TSi and TSr, or the error that takes the child SA's place (RFC 7296 §1.2)."""
        asked = find(self._first, SecurityAssociation)
        theirs_i = find_typed(self._first, TrafficSelectors, PayloadType.TSi)
        theirs_r = find_typed(self._first, TrafficSelectors, PayloadType.TSr)
        chosen = choose(asked.proposals, self.config.esp_offers, Protocol.ESP) if asked else None
        if chosen is None or theirs_i is None or theirs_r is None or self.keys is None:
            return [Notify(NotifyType.NO_PROPOSAL_CHOSEN)]
        proposal, suite = chosen
        inner = self.config.assign(self.account, requested_addresses(self._first))
        if inner is None:
            return [Notify(NotifyType.INTERNAL_ADDRESS_FAILURE)]
        wanted = requested_versions(self._first)
        inner = dataclasses.replace(inner, addresses=tuple(one for one in inner.addresses if one.version in wanted))
        own = [AddressRange(entry.ip.packed, entry.ip.packed) for entry in inner.addresses]
        local, remote = same_families(
            intersect(ranges_of(theirs_r), self.config.remote), intersect(ranges_of(theirs_i), own)
        )
        if not local or not remote:
            return [Notify(NotifyType.TS_UNACCEPTABLE)]
        # RFC 4303 §2.1: 0 to 255 are reserved; a set bit in the first octet keeps clear of them.
        spi_in = (int.from_bytes(self._random(4)) | 1 << 31).to_bytes(4)
        keys = derive_child_keys(self.keys, suite, self.nonce_i, self.nonce_r)
        spi_out = int.from_bytes(proposal.spi)
        self.child = ChildEstablished(
            now, int.from_bytes(spi_in), spi_out, keys, inner, local, remote, as_initiator=False
        )
        self._events.append(self.child)
        self.mobile = NotifyType.MOBIKE_SUPPORTED in notifications(self._first)
        limit = self.config.sign_in_seconds
        self._sign_in_until = now + limit if limit else float("inf")
        return [
            *([Notify(NotifyType.MOBIKE_SUPPORTED)] if self.mobile else []),
            *([Notify(NotifyType.AUTH_LIFETIME, limit.to_bytes(4))] if limit else []),
            configuration_reply(inner),
            SecurityAssociation((dataclasses.replace(proposal, spi=spi_in),)),
            selectors(PayloadType.TSi, remote),
            selectors(PayloadType.TSr, local),
        ]

    # Afterwards.

    def _on_informational(self, message: Message, now: float) -> None:
        payloads = self._open(message)
        answer, _ = self._take_deletes(payloads, now)
        self._respond(message, [*answer, *self._mobility_answer(payloads)])
        self._begin_check(now)
        if any(isinstance(entry, Delete) and entry.protocol == Protocol.IKE for entry in payloads):
            if self._succeed_by_rival(now):
                return
            self._events.append(Closed(now, by_peer=True, reason="the caller ended the tunnel"))
            self.state = State.CLOSED

    def _on_child_request(self, message: Message, now: float) -> None:
        self._take_child_request(message, now)

    def _on_child_response(self, message: Message, now: float) -> None:
        self._take_child_response(message, now)

    def _on_followup_request(self, message: Message, now: float) -> None:
        self._take_followup_request(message, now)

    def _on_followup_response(self, message: Message, now: float) -> None:
        self._take_followup_response(message, now)

    def _on_rekey(self, _: Message | None, now: float) -> None:
        self._begin_rekey(now)

    def _on_rekey_ike(self, _: Message | None, now: float) -> None:
        self._begin_succession(now)

    def _on_probe(self, _: Message | None, now: float) -> None:
        if self.sa.outstanding is None:
            self._request(ExchangeType.INFORMATIONAL, [], now)

    def _on_alive(self, message: Message, now: float) -> None:
        """The peer lives, or has let go of a child SA."""
        if not self._take_informational_response(message, now):
            self.state = State.CLOSED
            return
        self._begin_check(now)

    def _on_close(self, _: Message | None, now: float) -> None:
        self._request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now)
        self.state = State.CLOSING

    def _on_deleted(self, message: Message | None, now: float) -> None:
        if message is not None:
            self._at.answered(message.header.message_id)
        self._events.append(Closed(now, by_peer=False))
        self.state = State.CLOSED

    def _on_abandon(self, _: Message | None, now: float) -> None:
        self._events.append(Closed(now, by_peer=False, reason="the caller never finished"))
        self.state = State.CLOSED

    def _on_nothing(self, _: Message | None, now: float) -> None:
        """Closing twice is closing once."""
