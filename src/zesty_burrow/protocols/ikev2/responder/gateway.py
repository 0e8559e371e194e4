"""A gateway: many responders behind one pair of UDP ports (RFC 7296 §2.1, §2.6, §2.23)."""

from __future__ import annotations

import hmac
from collections import deque

from zesty_burrow.core.crypto.key_exchange import METHODS, make_key_agreement
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import Closed, Event, Failed
from zesty_burrow.protocols.ikev2.machine.endpoint import KEEPALIVE, NON_ESP_MARKER, nat_detection_hash, with_marker
from zesty_burrow.protocols.ikev2.responder.responder import Responder
from zesty_burrow.protocols.ikev2.responder.table import ResponderConfig, State
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import (
    Header,
    Message,
    Unusable,
    build_clear,
    check_critical,
    find,
    notifications,
    parse_message_untrusted,
)
from zesty_burrow.protocols.ikev2.wire.payloads import (
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    Proposal,
    SecurityAssociation,
)
from zesty_burrow.protocols.ikev2.wire.proposals import choose
from zesty_burrow.protocols.ikev2.wire.redirect import write_redirect
from zesty_burrow.protocols.ikev2.wire.registry import SIGNATURE_HASHES, ExchangeType, Flag, NotifyType, Protocol
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class GatewayEvent:
    """An event of one of the gateway's responders."""

    responder: Responder
    event: Event


class IkeGateway:
    """Takes datagrams from anyone. Half-open negotiations are bounded; cookies keep floods cheap (RFC 7296 §2.6)."""

    def __init__(self, config: ResponderConfig, random: Random, address: str) -> None:
        self.config = config
        self.address = address
        self.responders: dict[bytes, Responder] = {}
        self._by_spi: dict[bytes, Responder] = {}
        self._spis_of: dict[Responder, set[bytes]] = {}
        self.ignored: deque[str] = deque(maxlen=20)
        self._random = random
        self._secret = random(32)
        self._by_init: dict[tuple[bytes, Endpoint], Responder] = {}
        self._out: deque[Datagram] = deque()
        self._events: deque[GatewayEvent] = deque()

    @property
    def known_spis(self) -> frozenset[bytes]:
        """The SPIs of all IKE SAs that there are."""
        return frozenset(self._by_spi)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 500) -> None:
        """Take a datagram that came to ``local_port``. Never raises for content. ESP is not for here."""
        if local_port == 4500:
            if data == KEEPALIVE or data[:4] != NON_ESP_MARKER:
                return
            data = data[4:]
        try:
            message = parse_message_untrusted(data)
            self._dispatch(message, source, local_port, now)
        except Malformed as problem:
            self.ignored.append(str(problem))

    def send(self, now: float) -> list[Datagram]:
        out = list(self._out)
        self._out.clear()
        for responder in self.responders.values():
            out += responder.send(now)
        self._collect()
        return out

    def next_timer(self) -> float | None:
        """When ``handle_timer`` wants to be called."""
        times = [due for entry in self.responders.values() if (due := entry.next_timer()) is not None]
        return min(times) if times else None

    def handle_timer(self, now: float) -> None:
        """Pass the time on to the responders whose time has come."""
        for responder in list(self.responders.values()):
            due = responder.next_timer()
            if due is not None and due <= now:
                responder.handle_timer(now)
        self._collect()

    def next_event(self) -> GatewayEvent | None:
        """The next event of any responder, or None."""
        self._collect()
        return self._events.popleft() if self._events else None

    def close(self, now: float) -> None:
        """End all negotiations and tunnels."""
        for responder in self.responders.values():
            responder.close(now)

    def forget(self, now: float) -> None:
        """Drop all negotiations and tunnels without a message, as a crash would (RFC 7296 §2.4)."""
        for spi, responder in list(self.responders.items()):
            self._events.append(GatewayEvent(responder, Closed(now, by_peer=False, reason="forgotten")))
            self._forget(spi, responder)

    def _collect(self) -> None:
        for spi, responder in list(self.responders.items()):
            while (event := responder.next_event()) is not None:
                self._events.append(GatewayEvent(responder, event))
                if isinstance(event, Closed | Failed):
                    self._forget(spi, responder)

    def _forget(self, spi: bytes, responder: Responder) -> None:
        self._out.extend(responder.send(0.0))
        self.responders.pop(spi, None)
        for own in self._spis_of.pop(responder, ()):
            self._by_spi.pop(own, None)
        for key in [key for key, entry in self._by_init.items() if entry is responder]:
            del self._by_init[key]

    def _dispatch(self, message: Message, source: Endpoint, local_port: int, now: float) -> None:
        header = message.header
        if header.major_version != 2:
            self._answer_clear(header, source, local_port, [Notify(NotifyType.INVALID_MAJOR_VERSION)])
        elif header.exchange == ExchangeType.IKE_SA_INIT and header.message_id == 0 and not header.is_response:
            self._take_init(message, source, local_port, now)
        else:
            # After a rekeying that this side began, the first of the two SPIs is ours (RFC 7296 §2.2).
            responder = self._by_spi.get(header.responder_spi if header.from_initiator else header.initiator_spi)
            if responder is None:
                raise Malformed("a message was dropped", why="no such IKE SA")
            try:
                responder.receive(message, source, now)
            finally:
                self._route(responder)

    def _route(self, responder: Responder) -> None:
        """Messages with these SPIs are for it; it may have made new IKE SAs, and let old ones go."""
        before, spis = self._spis_of.get(responder, set()), responder.own_spis
        for spi in before - spis:
            del self._by_spi[spi]
        self._by_spi.update(dict.fromkeys(spis, responder))
        self._spis_of[responder] = spis

    def _answer_clear(self, header: Header, to: Endpoint, port: int, payloads: list[Payload]) -> bytes:
        flags = Flag.RESPONSE | (0 if header.from_initiator else Flag.INITIATOR)
        answer = Header(header.initiator_spi, header.responder_spi, header.exchange, flags, header.message_id)
        data = build_clear(answer, payloads)
        self._out.append(Datagram(with_marker(data, port == 4500), port, to))
        return data

    def _take_init(self, message: Message, source: Endpoint, port: int, now: float) -> None:
        known = self._by_init.get((message.header.initiator_spi, source))
        if known is not None:
            if message.raw == known.handshake.init_request and known.state is State.AUTH_AWAITED:
                self._out.append(Datagram(with_marker(known.handshake.init_response, port == 4500), port, source))
            return
        asked, value = find(message.payloads, SecurityAssociation), find(message.payloads, KeyExchange)
        nonce = find(message.payloads, Nonce)
        try:
            check_critical(message.payloads)
        except Unusable as problem:
            self._answer_clear(message.header, source, port, [problem.answer])
            return
        if asked is None or value is None or nonce is None:
            raise Malformed("an IKE_SA_INIT request is incomplete", why="SA, KE and nonce are needed")
        if not self._cookie_holds(message, nonce, source, port):
            return
        said = notifications(message.payloads)
        if self.config.redirect and NotifyType.REDIRECT_SUPPORTED in said:
            self._answer_clear(message.header, source, port, [write_redirect(self.config.redirect, nonce.data)])
            return
        chosen = choose(asked.proposals, self.config.ike_offers, Protocol.IKE, preferred_group=value.group)
        if chosen is None:
            self._answer_clear(message.header, source, port, [Notify(NotifyType.NO_PROPOSAL_CHOSEN)])
        elif chosen[1].group != value.group:
            told = Notify(NotifyType.INVALID_KE_PAYLOAD, chosen[1].group.to_bytes(2))
            self._answer_clear(message.header, source, port, [told])
        elif not nonce.is_long_enough(chosen[1].prf):
            self._answer_clear(message.header, source, port, [Notify(NotifyType.INVALID_SYNTAX)])
        elif chosen[1].group in METHODS:
            self._begin(message, chosen, value, nonce, source, port, now)

    def _cookie_holds(self, message: Message, nonce: Nonce, source: Endpoint, port: int) -> bool:
        """RFC 7296 §2.6: above a number of half-open negotiations, only who receives our answer is served."""
        half_open = sum(entry.state is not State.ESTABLISHED for entry in self.responders.values())
        if half_open < self.config.cookie_above:
            return True
        octets = nonce.data + source[0].encode() + message.header.initiator_spi
        cookie = hmac.digest(self._secret, octets, "sha256")
        told = notifications(message.payloads).get(NotifyType.COOKIE)
        if told is not None and hmac.compare_digest(told.data, cookie):
            return half_open < self.config.half_open_limit
        self._answer_clear(message.header, source, port, [Notify(NotifyType.COOKIE, cookie)])
        return False

    def _begin(
        self,
        message: Message,
        chosen: tuple[Proposal, Suite],
        value: KeyExchange,
        nonce: Nonce,
        source: Endpoint,
        port: int,
        now: float,
    ) -> None:
        proposal, suite = chosen
        agreement = make_key_agreement(suite.group, self._random)
        shared = agreement.shared(value.data)
        responder = Responder(self.config, self._random, source, started=now)
        responder.sa.spi_i = message.header.initiator_spi
        while responder.sa.spi_r == bytes(8) or responder.sa.spi_r in self._by_spi:
            responder.sa.spi_r = self._random(8)
        responder.handshake.nonce_i, responder.handshake.nonce_r = nonce.data, self._random(32)
        responder.handshake.init_request = message.raw
        wanted = NotifyType.USE_PPK in notifications(message.payloads)
        responder.handshake.extra_due = suite.extra != 0
        responder.handshake.mixing = wanted and self.config.additional_key_of is not None
        spis = responder.sa.spi_i, responder.sa.spi_r
        header = Header(*spis, ExchangeType.IKE_SA_INIT, message.header.flags, 0)
        here, there = (self.address, port), source
        responder.handshake.init_response = self._answer_clear(
            header,
            source,
            port,
            [
                SecurityAssociation((proposal,)),
                KeyExchange(suite.group, agreement.public),
                Nonce(responder.handshake.nonce_r),
                Notify(NotifyType.NAT_DETECTION_SOURCE_IP, nat_detection_hash(*spis, here)),
                Notify(NotifyType.NAT_DETECTION_DESTINATION_IP, nat_detection_hash(*spis, there)),
                Notify(NotifyType.SIGNATURE_HASH_ALGORITHMS, b"".join(n.to_bytes(2) for n in SIGNATURE_HASHES)),
                Notify(NotifyType.IKEV2_FRAGMENTATION_SUPPORTED),
                Notify(NotifyType.MULTIPLE_AUTH_SUPPORTED),
                *([Notify(NotifyType.INTERMEDIATE_EXCHANGE_SUPPORTED)] if suite.extra else []),
                *([Notify(NotifyType.USE_PPK)] if responder.handshake.mixing else []),
            ],
        )
        keys = derive_ike_keys(suite, shared, responder.handshake.nonce_i, responder.handshake.nonce_r, *spis)
        known = NotifyType.IKEV2_FRAGMENTATION_SUPPORTED in notifications(message.payloads)
        responder.adopt(keys, fragmenting=known)
        self.responders[responder.sa.spi_r] = responder
        self._route(responder)
        self._by_init[responder.sa.spi_i, source] = responder
