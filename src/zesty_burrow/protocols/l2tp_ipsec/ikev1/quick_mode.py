"""Quick mode (RFC 2409 §5.5; RFC 3947 §5): three messages, and a pair of SAs of ESP at their end; for both ends."""

from __future__ import annotations

from zesty_burrow.core.crypto.key_exchange import make_key_agreement
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed, NoAgreement
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ESP, choose, esp_seconds, esp_suite
from zesty_burrow.protocols.l2tp_ipsec.ikev1.association import Association, check_hash
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import L2TP_PORT, UDP, ChildSa, IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.identities import (
    address_identity,
    identification,
    original_address,
    selected,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.keys import esp_keys
from zesty_burrow.protocols.l2tp_ipsec.ikev1.main_mode import LEAST_NONCE, MOST_NONCE, NONCE
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    Exchange,
    Header,
    Kind,
    Payload,
    of_kind,
    only,
    write_payloads,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.proposals import Proposal, Transform, chosen_of, read_sa, write_sa

SPI_SIZE = 4
LEAST_SPI = 256
"""Smaller ones are reserved (RFC 4303 §2.1)."""


def new_spi(random: Random) -> bytes:
    """Not a reserved one."""
    while True:
        spi = random(SPI_SIZE)
        if int.from_bytes(spi) >= LEAST_SPI:
            return spi


class QuickMode:
    """One run of it, under ``association``. ``child``: as soon as there are keys; ``is_confirmed``: at the end."""

    def __init__(
        self,
        config: IkeConfig,
        random: Random,
        association: Association,
        message_id: int,
        peer: str,
        *,
        is_initiator: bool,
    ) -> None:
        self.association, self.message_id, self.is_initiator = association, message_id, is_initiator
        self.child: ChildSa | None = None
        self.is_confirmed = False
        self._config, self._random, self._peer = config, random, peer
        self._number = message_id.to_bytes(4)
        self._spi = new_spi(random)
        self._offered: Proposal = config.offer.esp_proposal(self._spi)
        self._nonce = random(NONCE)
        self._nonces = (b"", b"")
        self._identities: list[Payload] = []

    # Who asks.

    def start(self) -> bytes:
        """Message 1: what is to be protected is L2TP between the two ends (RFC 3193 §4.2)."""
        here, there = self._config.local, address_identity(self._peer)
        self._identities = [
            Payload(Kind.IDENTIFICATION, identification(here, UDP, L2TP_PORT)),
            Payload(Kind.IDENTIFICATION, identification(there, UDP, L2TP_PORT)),
        ]
        payloads = [
            Payload(Kind.SA, write_sa([self._offered])),
            Payload(Kind.NONCE, self._nonce),
            *self._identities,
            original_address(here),
            original_address(there),
        ]
        return self._seal([self._number], payloads)

    def receive(self, header: Header, first: int, sealed: bytes) -> bytes:
        """What is to be sent next, or nothing. Raises :class:`Malformed`, or ``NoAgreement`` where it is over."""
        payloads, behind = self.association.open(header, first, sealed)
        if self.is_initiator:
            return self._on_answer(header, payloads, behind, sealed)
        if self.child is None:
            return self._on_offer(header, payloads, behind, sealed)
        check_hash(payloads[0].body, self._third_hash())
        self.association.accept(header, sealed)
        self.is_confirmed = True
        return b""

    def _on_answer(self, header: Header, payloads: list[Payload], behind: bytes, sealed: bytes) -> bytes:
        """Message 2; then 3."""
        check_hash(payloads[0].body, self.association.hash_of(self._number, self._nonce, behind))
        proposal, transform = chosen_of([self._offered], only(payloads, Kind.SA))
        nonce = _nonce(payloads)
        self._nonces = (self._nonce, nonce)
        self.child = self._make(_suite(transform), _spi(proposal), esp_seconds(transform), b"")
        self.association.accept(header, sealed)
        self.is_confirmed = True
        return self._seal_hash(self._third_hash())

    # Who answers.

    def _on_offer(self, header: Header, payloads: list[Payload], behind: bytes, sealed: bytes) -> bytes:
        """Message 1; then 2."""
        check_hash(payloads[0].body, self.association.hash_of(self._number, behind))
        found = choose(self._config.offer, (), read_sa(only(payloads, Kind.SA)), ESP)
        if found is None:
            raise NoAgreement("no proposal of this peer's for ESP is taken")
        proposal, transform = found
        identities = of_kind(payloads, Kind.IDENTIFICATION)
        if len(identities) != 2 or any(not _is_l2tp(identity) for identity in identities):
            raise NoAgreement("this peer wants something else protected than L2TP (RFC 3193 §4.2)")
        nonce = _nonce(payloads)
        self._nonces = (nonce, self._nonce)
        own, shared = [], b""
        if group := transform.value(3):
            agreement = make_key_agreement(group, self._random)
            shared = agreement.shared(only(payloads, Kind.KEY_EXCHANGE))
            own = [Payload(Kind.KEY_EXCHANGE, agreement.public)]
        self.child = self._make(_suite(transform), _spi(proposal), esp_seconds(transform), shared)
        self.association.accept(header, sealed)
        answer = Proposal(proposal.number, ESP, self._spi, (transform,))
        local = self._config.local
        rows = [
            Payload(Kind.SA, write_sa([answer])),
            Payload(Kind.NONCE, self._nonce),
            *own,
            *(Payload(Kind.IDENTIFICATION, identity) for identity in identities),
            original_address(address_identity(self._peer)),
            original_address(local),
        ]
        return self._seal([self._number, nonce], rows)

    def _make(self, suite: Suite, spi: bytes, seconds: int, shared: bytes) -> ChildSa:
        keys = self.association.keys
        return ChildSa(
            int.from_bytes(self._spi),
            int.from_bytes(spi),
            esp_keys(keys, suite, self._spi, self._nonces, shared),
            esp_keys(keys, suite, spi, self._nonces, shared),
            min(seconds, self._config.offer.esp_seconds),
            by_peer=not self.is_initiator,
        )

    def _third_hash(self) -> bytes:
        """HASH(3)."""
        return self.association.hash_of(b"\0", self._number, *self._nonces)

    def _seal(self, before: list[bytes], payloads: list[Payload]) -> bytes:
        check = Payload(Kind.HASH, self.association.hash_of(*before, write_payloads(payloads)))
        return self.association.seal(Exchange.QUICK, self.message_id, [check, *payloads])

    def _seal_hash(self, value: bytes) -> bytes:
        return self.association.seal(Exchange.QUICK, self.message_id, [Payload(Kind.HASH, value)])


def _nonce(payloads: list[Payload]) -> bytes:
    nonce = only(payloads, Kind.NONCE)
    if not LEAST_NONCE <= len(nonce) <= MOST_NONCE:
        raise Malformed("an ISAKMP message is malformed", why=f"its nonce has {len(nonce)} octets")
    return nonce


def _spi(proposal: Proposal) -> bytes:
    if len(proposal.spi) != SPI_SIZE or int.from_bytes(proposal.spi) < LEAST_SPI:
        raise Malformed("an SA payload is malformed", why="its SPI is reserved (RFC 4303 §2.1)")
    return proposal.spi


def _suite(transform: Transform) -> Suite:
    suite = esp_suite(transform)
    if suite is None:
        raise Malformed("an SA payload is malformed", why="it names an algorithm that is not known")
    return suite


def _is_l2tp(body: bytes) -> bool:
    """A selector without protocol and port means any (RFC 2407 §4.6.2)."""
    protocol, port = selected(body)
    return protocol in (0, UDP) and port in (0, L2TP_PORT)
