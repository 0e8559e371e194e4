"""One IKE SA follows another: keys are renewed without a new sign-in (RFC 7296 §1.3.2, §2.8, §2.18, §2.25.2).

While that happens there are several: the one in use; one that the peer has made while our own request is on its way
(the rival); and those that are about to be deleted. Child SAs belong to whichever is in use.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement, make_key_agreement
from zesty_burrow.core.crypto.protection import Random
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import IkeRekeyed
from zesty_burrow.protocols.ikev2.machine.followup_ke import FollowUp
from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff, IkeSa
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import Message, find
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, KeyExchange, Nonce, Notify, Payload, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import Offer, accept_answer, build_proposals, choose
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol

RETRY = 10.0
"""Seconds after which a rekeying that was put off is tried again; up to half as much again, by chance."""
MOST = 8
"""IKE SAs at one time; a peer that makes more has lost count."""


@dataclass(slots=True)
class Successor:
    """An IKE SA that this side has asked for."""

    sa: IkeSa
    nonce: bytes
    agreement: KeyAgreement
    offers: tuple[Offer, ...]


@dataclass(frozen=True, slots=True)
class Granted:
    """What the peer has answered: its SPI and nonce, the suite, and the secret of the key exchange."""

    spi: bytes
    nonce: bytes
    suite: Suite
    shared: bytes = field(repr=False)


@dataclass(slots=True)
class RivalSa:
    """An IKE SA that the peer has made meanwhile, with the lower of its two nonces (RFC 7296 §2.8.1)."""

    sa: IkeSa
    lowest: bytes


class IkeRekey(FollowUp):
    """The part of both ends that knows of more than one IKE SA."""

    def __init__(
        self,
        random: Random,
        backoff: Backoff,
        ike_offers: tuple[Offer, ...],
        peer: Endpoint,
        local_port: int,
        *,
        is_initiator: bool,
    ) -> None:
        super().__init__(random, backoff, peer, local_port, is_initiator=is_initiator)
        self._ike_offers = ike_offers
        self._others: list[IkeSa] = []
        self._successor: Successor | None = None
        self._rival_sa: RivalSa | None = None
        self._ike_due: float | None = None

    # Which SA a message is for.

    @property
    def own_spis(self) -> set[bytes]:
        """The SPIs by which the peer may name an SA to us."""
        return {sa.own_spi for sa in (self.sa, *self._others)}

    def _choose_sa(self, message: Message) -> None:
        """Set ``_at``. Raises :class:`Malformed` for a message of another negotiation."""
        for sa in (self.sa, *self._others):
            if sa.owns(message.header):
                self._at = sa
                return
        raise Malformed("a message was turned away", why="it belongs to another negotiation")

    def _take_answer_again(self, message: Message) -> bool:
        """Whether the message asks once more for an answer that was given; it is sent again."""
        header, sa = message.header, self._at
        self._open(message)  # before anything else: only the peer itself may ask
        if header.message_id == sa.peer_request_id - 1 and sa.last_response:
            self._out.extend(sa.last_response)
            return True
        if header.message_id != sa.peer_request_id:
            raise Malformed("a message was turned away", why="its number is not expected")
        return False

    def _take_backstage(self, message: Message, now: float) -> None:
        """A message by an SA that is not in use."""
        sa = self._at
        if message.header.is_response:
            self._open(message)
            self._expect_answer(message)
            self._drop(sa)
            return
        if self._take_answer_again(message):
            return
        payloads = self._open(message)
        if message.header.exchange != ExchangeType.INFORMATIONAL:
            self._respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
            return
        answer = self._answer_deletes(payloads, now)
        self._respond(message, answer)
        if any(isinstance(entry, Delete) and entry.protocol == Protocol.IKE for entry in payloads):
            # It stays for a moment, in case the answer is lost.
            if self._rival_sa is not None and self._rival_sa.sa is sa:
                self._rival_sa = None
            self._retire(sa, now)

    def _answer_deletes(self, payloads: Sequence[Payload], now: float) -> list[Payload]:
        raise NotImplementedError

    def _retire(self, sa: IkeSa, now: float) -> None:
        sa.expires = now + 2 * self._backoff.give_up
        if sa not in self._others:
            self._others.append(sa)
        del self._others[:-MOST]

    def _drop(self, sa: IkeSa) -> None:
        if sa in self._others:
            self._others.remove(sa)

    def _others_due(self) -> list[float]:
        """When ``_look_after_others`` has something to do."""
        times = [min(sa.expires, sa.outstanding.due if sa.outstanding else sa.expires) for sa in self._others]
        return [due for due in times if due < float("inf")]

    def _look_after_others(self, now: float) -> None:
        for sa in list(self._others):
            if self._retransmit(now, sa) or now >= sa.expires:
                self._drop(sa)

    # Rekeying.

    def _is_busy(self) -> bool:
        """Whether a child SA is being made or deleted (RFC 7296 §2.25.2)."""
        raise NotImplementedError

    def _later(self, now: float) -> float:
        return now + RETRY * (1 + self._random(1)[0] / 512)

    def _begin_succession(self, now: float) -> bool:
        """Ask for a new IKE SA in place of the present one; False where that has to wait."""
        keys = self.sa.keys
        if keys is None or self.sa.outstanding is not None or self._is_busy() or self._successor is not None:
            return False
        if self._has_promised(now):
            return False
        suite = keys.suite
        # The same algorithms again: nothing to disagree about, and nothing weaker.
        integrity = (suite.integrity,) if suite.integrity else ()
        extra = (suite.extra,) if suite.extra else ()
        offers = (Offer(((suite.encryption, suite.key_bits),), integrity, (suite.prf,), (suite.group,), (), extra),)
        sa = IkeSa(self._random, is_initiator=True)
        sa.spi_i = self._fresh_ike_spi()
        agreement = make_key_agreement(suite.group, self._random)
        self._successor = Successor(sa, self._random(32), agreement, offers)
        self._request(
            ExchangeType.CREATE_CHILD_SA,
            [
                SecurityAssociation(build_proposals(offers, Protocol.IKE, sa.spi_i)),
                Nonce(self._successor.nonce),
                KeyExchange(agreement.group, agreement.public),
            ],
            now,
        )
        return True

    def _fresh_ike_spi(self) -> bytes:
        while (spi := self._random(8)) == bytes(8) or spi in self.own_spis:
            pass
        return spi

    def _take_succession_request(self, message: Message, payloads: Sequence[Payload], now: float) -> None:
        """The peer wants a new IKE SA."""
        if self._is_busy():
            self._respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
            return
        asked, nonce, value = find(payloads, SecurityAssociation), find(payloads, Nonce), find(payloads, KeyExchange)
        keys = self.sa.keys
        if asked is None or nonce is None or value is None or keys is None:
            self._respond(message, [Notify(NotifyType.INVALID_SYNTAX)])
            return
        chosen = choose(asked.proposals, self._ike_offers, Protocol.IKE, preferred_group=value.group)
        if chosen is None or len(chosen[0].spi) != 8 or chosen[0].spi == bytes(8):
            self._respond(message, [Notify(NotifyType.NO_PROPOSAL_CHOSEN)])
            return
        proposal, suite = chosen
        if suite.group != value.group or suite.group not in METHODS:
            self._respond(message, [Notify(NotifyType.INVALID_KE_PAYLOAD, suite.group.to_bytes(2))])
            return
        agreement = make_key_agreement(suite.group, self._random)
        try:
            shared = agreement.shared(value.data)
        except Malformed:
            self._respond(message, [Notify(NotifyType.INVALID_SYNTAX)])
            return
        old, made, own, theirs = self.sa, IkeSa(self._random, is_initiator=False), self._random(32), nonce.data
        made.spi_i, made.spi_r, made.fragmenting = proposal.spi, self._fresh_ike_spi(), old.fragmenting

        def make(more: bytes, now: float) -> bool:
            if self.sa is not old:
                return False
            made.use_keys(derive_ike_keys(suite, shared, theirs, own, made.spi_i, made.spi_r, keys, more))
            if self._successor is None:
                self._succeed(made, now)
            else:
                self._rival_sa = RivalSa(made, min(theirs, own))
                self._others.append(made)
            return True

        answer = replace(proposal, spi=made.spi_r)
        value_back = KeyExchange(agreement.group, agreement.public)
        said: list[Payload] = [SecurityAssociation((answer,)), Nonce(own), value_back]
        if suite.extra:
            self._respond(message, [*said, self._promise_more(suite.extra, now, make)])
        else:
            self._respond(message, said)
            make(b"", now)

    def _take_succession_response(self, payloads: Sequence[Payload], now: float) -> None:
        """The peer's answer; what it refuses is tried again later, unless it has made one itself."""
        successor = self._successor
        granted = self._granted(successor, payloads) if successor is not None else None
        if granted is None:
            self._end_succession(None, None, now)
        elif granted.suite.extra:
            self._follow_up(payloads, now, lambda more, now: self._end_succession(granted, more, now))
        else:
            self._end_succession(granted, b"", now)

    def _granted(self, successor: Successor, payloads: Sequence[Payload]) -> Granted | None:
        answer, nonce, value = find(payloads, SecurityAssociation), find(payloads, Nonce), find(payloads, KeyExchange)
        accepted = accept_answer(answer.proposals, successor.offers, Protocol.IKE) if answer else None
        if accepted is None or nonce is None or value is None:
            return None
        spi = accepted[0].spi
        if value.group != successor.agreement.group or len(spi) != 8 or spi == bytes(8):
            return None
        try:
            return Granted(spi, nonce.data, accepted[1], successor.agreement.shared(value.data))
        except Malformed:
            return None

    def _end_succession(self, granted: Granted | None, more: bytes | None, now: float) -> None:
        """What was asked for is made, or was refused."""
        successor, self._successor = self._successor, None
        rival, self._rival_sa = self._rival_sa, None
        keys = self.sa.keys
        if granted is None or more is None or successor is None or keys is None:
            if rival is not None:
                self._succeed(rival.sa, now)
            else:
                self._ike_due = self._later(now)
            return
        sa, nonces = successor.sa, (successor.nonce, granted.nonce)
        sa.spi_r, sa.fragmenting = granted.spi, self.sa.fragmenting
        sa.use_keys(derive_ike_keys(granted.suite, granted.shared, *nonces, sa.spi_i, sa.spi_r, keys, more))
        if rival is not None and min(nonces) < rival.lowest:
            # RFC 7296 §2.8.1: the SA with the lowest nonce goes, by the side that has asked for it.
            self._retire(sa, now)
            self._request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, sa=sa)
            self._succeed(rival.sa, now)
            return
        old = self.sa
        if rival is not None:
            self._retire(rival.sa, now)
        self._succeed(sa, now)
        self._request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, sa=old)

    def _succeed(self, made: IkeSa, now: float) -> None:
        """From now on by this SA. A probe by the old one is forgotten; it is asked anew when the time comes."""
        old, self.sa = self.sa, made
        self._following = self._promise = None
        self._drop(made)
        made.expires = float("inf")
        old.outstanding = None
        self._retire(old, now)
        suite = made.keys.suite if made.keys else None
        self._ike_due = None
        if suite is not None:
            self._events.append(IkeRekeyed(now, suite))

    def _succeed_by_rival(self, now: float) -> bool:
        """The peer has deleted the SA in use while one that it has made stands ready."""
        rival, self._rival_sa = self._rival_sa, None
        self._successor = None
        if rival is None:
            return False
        self._succeed(rival.sa, now)
        return True
