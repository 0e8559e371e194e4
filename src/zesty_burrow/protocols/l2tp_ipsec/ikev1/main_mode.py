"""Main mode (RFC 2409 §5.1, §5.4; RFC 3947 §3, §4): six messages, and the keys of an ISAKMP SA at their end.

Both ends are here: who asks has ``start`` and takes messages 2, 4 and 6; who answers takes 1, 3 and 5.
"""

from __future__ import annotations

from ipaddress import ip_address

from cryptography import x509

from zesty_burrow.core.crypto.key_exchange import KeyAgreement, make_key_agreement
from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.identity import IdType
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import GatewayProtocolError, Malformed, NoAgreement
from zesty_burrow.protocols.gateway_proof import MAX_CERTIFICATES, Proof
from zesty_burrow.protocols.l2tp_ipsec.ikev1 import signatures
from zesty_burrow.protocols.l2tp_ipsec.ikev1.algorithms import ISAKMP, SHARED_KEY, choose, ike_seconds, ike_suite
from zesty_burrow.protocols.l2tp_ipsec.ikev1.association import Association, check_hash
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import PORT, IkeConfig
from zesty_burrow.protocols.l2tp_ipsec.ikev1.identities import (
    DEAD_PEER_DETECTION,
    INITIAL_CONTACT,
    NAT_TRAVERSAL,
    identification,
    nat_discovery,
    notification,
    place_of,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.keys import (
    IkeKeys,
    digest,
    ike_keys,
    skeyid_of_shared_key,
    skeyid_of_signatures,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.message import (
    Exchange,
    Header,
    Kind,
    Payload,
    of_kind,
    only,
    read_payloads,
    write_message,
    write_payloads,
)
from zesty_burrow.protocols.l2tp_ipsec.ikev1.proposals import Proposal, Transform, chosen_of, read_sa, write_sa
from zesty_burrow.records import dataclass

NONCE, LEAST_NONCE, MOST_NONCE = 32, 8, 256
"""Octets (RFC 2409 §5)."""
X509_SIGNATURE = 4
"""Encoding of a certificate (RFC 2408 §3.9)."""
VENDOR_IDS = (Payload(Kind.VENDOR_ID, NAT_TRAVERSAL), Payload(Kind.VENDOR_ID, DEAD_PEER_DETECTION))
RENEWED_AT = 0.85
"""Of the agreed seconds: new keys are there before the old ones are used up."""


@dataclass(frozen=True, slots=True)
class Result:
    """``proof``: of the peer; ``knows_probes``: whether it does dead peer detection."""

    association: Association
    proof: Proof
    knows_probes: bool


class MainMode:
    """One run of it. ``is_first``: this side has no SAs with the peer.

    ``suite``: None before algorithms are agreed on. ``result``: at the end.
    """

    def __init__(
        self, config: IkeConfig, random: Random, peer: Endpoint, *, is_initiator: bool, is_first: bool = True
    ) -> None:
        self.is_first = is_first
        self.config, self.is_initiator, self.peer = config, is_initiator, peer
        self.cookies = (random(8), bytes(8)) if is_initiator else (bytes(8), random(8))
        self.suite: Suite | None = None
        self.result: Result | None = None
        self.step = 0
        self._random = random
        self._method = 0
        self._seconds = config.offer.ike_seconds
        self._offered: Proposal = config.offer.ike_proposal(config.methods)
        self._sa = b""
        self._nonces, self._publics = (b"", b""), (b"", b"")
        self._agreement: KeyAgreement | None = None
        self._keys: IkeKeys | None = None
        self._vector = b""
        self._shared = b""
        self._vendors: set[bytes] = set()

    # Who asks.

    def start(self) -> bytes:
        """Message 1."""
        self._sa = write_sa([self._offered])
        return self._plain([Payload(Kind.SA, self._sa), *VENDOR_IDS])

    def receive(self, header: Header, first: int, body: bytes, now: float) -> bytes:
        """What is to be sent next, or nothing at the end of who asks.

        Raises :class:`Malformed` for what nobody has to answer, another ``BurrowError`` where the run is over.
        """
        if self._keys is not None and self.step >= 2:
            return self._last(header, first, body, now)
        if header.encrypted:
            raise Malformed("an ISAKMP message is malformed", why="it is encrypted before there are keys")
        payloads, _ = read_payloads(first, body)
        if self.is_initiator:
            return self._on_answer(payloads, header) if self.step == 0 else self._on_key_answer(payloads)
        return self._on_offer(payloads, header) if self.step == 0 else self._on_key(payloads)

    def _on_answer(self, payloads: list[Payload], header: Header) -> bytes:
        """Message 2; then 3."""
        _, transform = chosen_of([self._offered], only(payloads, Kind.SA))
        self._agree(transform, payloads)
        self.cookies = header.cookies
        return self._plain(self._key_payloads(source=None))

    def _on_key_answer(self, payloads: list[Payload]) -> bytes:
        """Message 4; then 5, encrypted, to the other port."""
        self._take_key(payloads)
        return self._seal(self._proof_payloads(initial=self.is_first))

    # Who answers.

    def _on_offer(self, payloads: list[Payload], header: Header) -> bytes:
        """Message 1; then 2."""
        self._sa = only(payloads, Kind.SA)
        self.cookies = (header.cookies[0], self.cookies[1])
        found = choose(self.config.offer, self.config.methods, read_sa(self._sa), ISAKMP)
        if found is None:
            raise NoAgreement("no proposal of this caller's is taken")
        proposal, transform = found
        self._agree(transform, payloads)
        answer = Proposal(proposal.number, ISAKMP, proposal.spi, (transform,))
        return self._plain([Payload(Kind.SA, write_sa([answer])), *VENDOR_IDS])

    def _on_key(self, payloads: list[Payload]) -> bytes:
        """Message 3; then 4."""
        answer = self._key_payloads(source=(self.config.local.value, PORT))
        self._take_key(payloads)
        return self._plain(answer)

    # Both.

    def _agree(self, transform: Transform, payloads: list[Payload]) -> None:
        found = ike_suite(transform)
        if found is None:
            raise Malformed("an SA payload is malformed", why="it names an algorithm that is not known")
        self._vendors = set(of_kind(payloads, Kind.VENDOR_ID))
        if NAT_TRAVERSAL not in self._vendors:
            why = "it does not know address translation (RFC 3947), without which ESP cannot travel in UDP"
            raise NoAgreement(f"the peer {self.peer[0]} cannot be spoken to", why=why)
        self.suite, self._method = found
        self._seconds = min(ike_seconds(transform) or self._seconds, self._seconds)
        self._agreement = make_key_agreement(self.suite.group, self._random)
        own = self._random(NONCE)
        self._nonces = (own, b"") if self.is_initiator else (b"", own)
        self.step = 1

    def _key_payloads(self, source: Endpoint | None) -> list[Payload]:
        """Key, nonce and what tells of address translation.

        Who asks names a source that nobody has: ESP is to travel in UDP in any case, as it does not get through
        everywhere, and as a socket of one's own needs no rights (RFC 3947 §3.2).
        """
        if self._agreement is None or self.suite is None:
            raise Malformed("an ISAKMP message came too early")
        own = place_of(*source) if source is not None else self._random(6)
        rows = [place_of(*self.peer), own]
        found = [
            Payload(Kind.KEY_EXCHANGE, self._agreement.public),
            Payload(Kind.NONCE, self._nonces[not self.is_initiator]),
        ]
        return found + [nat_discovery(self._place_hash(row)) for row in rows]

    def _place_hash(self, place: bytes) -> bytes:
        if self.suite is None:
            raise Malformed("an ISAKMP message came too early")
        return digest(self.suite, self.cookies[0] + self.cookies[1] + place)

    def _take_key(self, payloads: list[Payload]) -> None:
        """The peer's key and nonce: from here on there are keys."""
        if self.suite is None or self._agreement is None:
            raise Malformed("an ISAKMP message came too early")
        public, nonce = only(payloads, Kind.KEY_EXCHANGE), only(payloads, Kind.NONCE)
        if not LEAST_NONCE <= len(nonce) <= MOST_NONCE:
            raise Malformed("an ISAKMP message is malformed", why=f"its nonce has {len(nonce)} octets")
        places = of_kind(payloads, Kind.NAT_DISCOVERY)
        if len(places) < 2:
            raise Malformed("an ISAKMP message is malformed", why="it tells nothing of address translation (RFC 3947)")
        shared = self._agreement.shared(public)
        own = self._nonces[not self.is_initiator]
        self._nonces = (own, nonce) if self.is_initiator else (nonce, own)
        ours = self._agreement.public
        self._publics = (ours, public) if self.is_initiator else (public, ours)
        if self._method == SHARED_KEY:
            skeyid = skeyid_of_shared_key(self.suite, self.config.shared_key, self._nonces)
        else:
            skeyid = skeyid_of_signatures(self.suite, shared, self._nonces)
        self._keys = ike_keys(self.suite, skeyid, shared, self.cookies, self._publics)
        self._vector = self._keys.vector
        self.step = 2

    def _last(self, header: Header, first: int, sealed: bytes, now: float) -> bytes:
        """Message 5 at who answers, who sends 6; or 6 at who has asked."""
        keys = self._keys
        if keys is None or not header.encrypted:
            raise Malformed("an ISAKMP message is malformed", why="it is not encrypted")
        cipher = keys.cipher()
        payloads, _ = read_payloads(first, cipher.open(self._vector, sealed), padded=True)
        proof = self._check(payloads, keys)
        self._vector = sealed[-cipher.block :]
        answer = b"" if self.is_initiator else self._seal(self._proof_payloads(initial=False))
        association = Association(
            keys,
            self.cookies,
            self._vector,
            is_initiator=self.is_initiator,
            expires=now + self._seconds * RENEWED_AT,
        )
        self.result = Result(association, proof, DEAD_PEER_DETECTION in self._vendors)
        self.step = 3
        return answer

    def _check(self, payloads: list[Payload], keys: IkeKeys) -> Proof:
        """The peer's proof (RFC 2409 §5). Raises if it is missing."""
        identity = only(payloads, Kind.IDENTIFICATION)
        expected = self._hash_of(keys, identity, of_initiator=not self.is_initiator)
        if self._method == SHARED_KEY:
            check_hash(only(payloads, Kind.HASH), expected)
            return Proof(f"the pre-shared key, as {_shown(identity)}", ())
        rows = [row[1:] for row in of_kind(payloads, Kind.CERTIFICATE) if row[:1] == bytes([X509_SIGNATURE])]
        chain = _certificates(rows)
        if self.config.judge is None:
            raise GatewayProtocolError("the peer shows certificates that nobody wants")
        proof = self.config.judge(chain)
        signatures.verify(chain[0].public_key(), only(payloads, Kind.SIGNATURE), expected)
        return proof

    def _proof_payloads(self, *, initial: bool) -> list[Payload]:
        """This side's identity and proof; ``initial``: there are no SAs of before (RFC 2407 §4.6.3.3)."""
        keys = self._keys
        if keys is None:
            raise Malformed("an ISAKMP message came too early")
        identity = identification(self.config.own)
        own = self._hash_of(keys, identity, of_initiator=self.is_initiator)
        found = [Payload(Kind.IDENTIFICATION, identity)]
        if self._method == SHARED_KEY:
            found.append(Payload(Kind.HASH, own))
        elif self.config.key is None:
            raise GatewayProtocolError("the peer wants a signature, and there is no key")
        else:
            shown = self.config.certificates[:MAX_CERTIFICATES]
            found += [Payload(Kind.CERTIFICATE, bytes([X509_SIGNATURE]) + one) for one in shown]
            found.append(Payload(Kind.SIGNATURE, signatures.sign(self.config.key, own)))
            if self.is_initiator:
                found.append(Payload(Kind.CERTIFICATE_REQUEST, bytes([X509_SIGNATURE])))
        return found + ([notification(INITIAL_CONTACT, self.cookies)] if initial else [])

    def _hash_of(self, keys: IkeKeys, identity: bytes, *, of_initiator: bool) -> bytes:
        order = (0, 1) if of_initiator else (1, 0)
        publics = b"".join(self._publics[at] for at in order)
        cookies = b"".join(self.cookies[at] for at in order)
        return keys.prf(keys.skeyid, publics + cookies + self._sa + identity)

    def _plain(self, payloads: list[Payload]) -> bytes:
        return write_message(Header(self.cookies, Exchange.MAIN), payloads[0].kind, write_payloads(payloads))

    def _seal(self, payloads: list[Payload]) -> bytes:
        keys = self._keys
        if keys is None:
            raise Malformed("an ISAKMP message came too early")
        cipher = keys.cipher()
        body = cipher.seal(self._vector, write_payloads(payloads))
        self._vector = body[-cipher.block :]
        return write_message(Header(self.cookies, Exchange.MAIN, encrypted=True), payloads[0].kind, body)


def _certificates(rows: list[bytes]) -> tuple[x509.Certificate, ...]:
    if not rows or len(rows) > MAX_CERTIFICATES:
        raise Malformed("an ISAKMP message is malformed", why=f"it shows {len(rows)} certificates")
    try:
        return tuple(map(x509.load_der_x509_certificate, rows))
    except ValueError as problem:
        raise Malformed("a certificate is malformed", why=str(problem)) from None


def _shown(identity: bytes) -> str:
    """For people: what a peer calls itself, where that is text or an address."""
    kind, value = identity[:1], identity[4:]
    if kind in (bytes([IdType.ID_IPV4_ADDR]), bytes([IdType.ID_IPV6_ADDR])) and len(value) in (4, 16):
        return str(ip_address(value))
    text = value.decode("utf-8", "replace")
    return text if text.isprintable() else value.hex()
