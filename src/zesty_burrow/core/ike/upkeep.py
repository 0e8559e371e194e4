"""What both ends do while an IKE SA stands: child SAs are rekeyed and deleted, the peer is asked whether it lives.

RFC 7296 §1.3.3, §1.4, §2.4, §2.8. How the IKE SA itself is renewed stands in :mod:`succession`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from zesty_burrow.core.ike.events import ChildEstablished, ChildGone, ChildRekeyed, Endpoint
from zesty_burrow.core.ike.keyexchange import METHODS, KeyAgreement, make_key_agreement
from zesty_burrow.core.ike.keys import derive_child_keys
from zesty_burrow.core.ike.message import Message, find, find_typed, notifications
from zesty_burrow.core.ike.mobility import Mobility
from zesty_burrow.core.ike.negotiation import fresh_spi, ranges_of, selectors
from zesty_burrow.core.ike.payloads import (
    Delete,
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    SecurityAssociation,
    TrafficSelectors,
)
from zesty_burrow.core.ike.proposals import Offer, accept_answer, build_proposals, choose
from zesty_burrow.core.ike.registry import ExchangeType, NotifyType, PayloadType, Protocol
from zesty_burrow.core.ike.sa import Backoff
from zesty_burrow.core.ike.suite import Suite
from zesty_burrow.core.ip import AddressRange, intersect
from zesty_burrow.core.protection import Random
from zesty_burrow.errors import Malformed


@dataclass(slots=True)
class Pending:
    """A rekeying that this side has asked for."""

    old: ChildEstablished
    spi: bytes
    nonce: bytes
    agreement: KeyAgreement
    offers: tuple[Offer, ...]


@dataclass(slots=True)
class Rival:
    """A child SA that the peer has made meanwhile, with the lower of its two nonces (RFC 7296 §2.8.1)."""

    child: ChildEstablished
    lowest: bytes


class Upkeep(Mobility):
    """The base of both ends. ``child`` is the pair of SAs in use; ``_replaced`` those that are about to go."""

    def __init__(
        self,
        random: Random,
        backoff: Backoff,
        offers: tuple[tuple[Offer, ...], tuple[Offer, ...]],
        peer: Endpoint,
        local_port: int,
        *,
        is_initiator: bool,
    ) -> None:
        ike_offers, esp_offers = offers
        super().__init__(random, backoff, ike_offers, peer, local_port, is_initiator=is_initiator)
        self.child: ChildEstablished | None = None
        self._esp_offers = esp_offers
        self._replaced: dict[int, ChildEstablished] = {}
        self._pending: Pending | None = None
        self._rival: Rival | None = None
        self._rekey_due: float | None = None
        self._deleting: int | None = None

    def _is_busy(self) -> bool:
        return self._pending is not None or self._deleting is not None

    def _answer_deletes(self, payloads: Sequence[Payload], now: float) -> list[Payload]:
        return [*self._take_deletes(payloads, now)[0], *self._mobility_answer(payloads)]

    def _rekey_offers(self) -> tuple[Offer, ...]:
        """As for the first child SA, with a key exchange of the IKE SA's group, so that old keys tell nothing."""
        group = self.keys.suite.group if self.keys else 0
        return tuple(Offer(one.encryption, one.integrity, groups=(group,), esn=one.esn) for one in self._esp_offers)

    # Rekeying.

    def _begin_rekey(self, now: float) -> bool:
        """Ask for a new pair of SAs in place of the present one; False where it has to wait."""
        child = self.child
        if child is None or self.sa.outstanding is not None or self._pending is not None or self.keys is None:
            return False
        if self._successor is not None:
            return False
        offers = self._rekey_offers()
        agreement = make_key_agreement(self.keys.suite.group, self._random)
        self._pending = Pending(child, fresh_spi(self._random), self._random(32), agreement, offers)
        old = child.spi_in.to_bytes(4)
        self._request(
            ExchangeType.CREATE_CHILD_SA,
            [
                Notify(NotifyType.REKEY_SA, protocol=Protocol.ESP, spi=old),
                SecurityAssociation(build_proposals(offers, Protocol.ESP, self._pending.spi)),
                Nonce(self._pending.nonce),
                KeyExchange(agreement.group, agreement.public),
                selectors(PayloadType.TSi, child.local),
                selectors(PayloadType.TSr, child.remote),
            ],
            now,
        )
        return True

    def _take_child_response(self, message: Message, now: float) -> None:
        """The peer's answer to a rekeying; what it refuses is tried again later."""
        payloads = self._open(message)
        self._expect_answer(message)
        if self._successor is not None:
            self._take_succession_response(message, payloads, now)
            return
        pending, self._pending = self._pending, None
        if pending is None:
            raise Malformed("a message was turned away", why="no child SA was asked for")
        answer, nonce = find(payloads, SecurityAssociation), find(payloads, Nonce)
        value = find(payloads, KeyExchange)
        accepted = accept_answer(answer.proposals, pending.offers, Protocol.ESP) if answer else None
        if accepted is None or nonce is None or value is None or value.group != pending.agreement.group:
            self._rekey_due = self._later(now)
            return
        shared = pending.agreement.shared(value.data)
        local, remote = _agreed(payloads, pending.old, initiated=True)
        if self.keys is None or not local or not remote or len(accepted[0].spi) != 4:
            self._rekey_due = self._later(now)
            return
        keys = derive_child_keys(self.keys, accepted[1], pending.nonce, nonce.data, shared)
        spis = int.from_bytes(pending.spi), int.from_bytes(accepted[0].spi)
        made = ChildEstablished(now, *spis, keys, pending.old.inner, local, remote, as_initiator=True)
        rival, self._rival = self._rival, None
        if rival is not None and min(pending.nonce, nonce.data) < rival.lowest:
            # RFC 7296 §2.8.1: the pair with the lowest nonce goes, by the side that has made it, before it was used.
            self._delete_child(made, now)
            return
        if rival is not None:
            self._replaced[rival.child.spi_in] = rival.child
        self._replace(pending.old, made, now, by_peer=False)
        self._delete_child(pending.old, now)

    def _replace(self, old: ChildEstablished, made: ChildEstablished, now: float, *, by_peer: bool) -> None:
        self._replaced[old.spi_in] = old
        self.child = made
        self._events.append(ChildRekeyed(now, old.spi_in, made, by_peer))

    def _delete_child(self, child: ChildEstablished, now: float) -> None:
        self._deleting = child.spi_in
        self._request(ExchangeType.INFORMATIONAL, [Delete(Protocol.ESP, (child.spi_in.to_bytes(4),))], now)

    def _take_child_request(self, message: Message, now: float) -> None:
        """The peer wants to rekey a child SA; anything else in such an exchange is declined (RFC 7296 §1.3)."""
        payloads = self._open(message)
        asked = find(payloads, SecurityAssociation)
        if asked is not None and asked.proposals[0].protocol == Protocol.IKE:
            self._take_succession_request(message, payloads, now)
            return
        if self._successor is not None:
            self._respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
            return
        told = notifications(payloads).get(NotifyType.REKEY_SA)
        old = self.child
        if told is None or told.protocol != Protocol.ESP or self.keys is None:
            self._respond(message, [Notify(NotifyType.NO_ADDITIONAL_SAS)])
            return
        if old is None or told.spi != old.spi_out.to_bytes(4):
            self._respond(message, [Notify(NotifyType.CHILD_SA_NOT_FOUND, protocol=Protocol.ESP, spi=told.spi)])
            return
        try:
            made, answer, lowest = self._grant_rekey(payloads, old, now)
        except _Declined as declined:
            self._respond(message, [declined.notify])
            return
        self._respond(message, answer)
        if self._pending is not None:
            self._rival = Rival(made, lowest)
        self._replace(old, made, now, by_peer=True)

    def _grant_rekey(
        self, payloads: Sequence[Payload], old: ChildEstablished, now: float
    ) -> tuple[ChildEstablished, list[Payload], bytes]:
        asked, nonce = find(payloads, SecurityAssociation), find(payloads, Nonce)
        value = find(payloads, KeyExchange)
        if asked is None or nonce is None or self.keys is None:
            raise _Declined(Notify(NotifyType.INVALID_SYNTAX))
        offers = (*self._rekey_offers(), *self._esp_offers) if value else self._esp_offers
        chosen = choose(asked.proposals, offers, Protocol.ESP, preferred_group=value.group if value else 0)
        if chosen is None or len(chosen[0].spi) != 4 or int.from_bytes(chosen[0].spi) < 256:
            raise _Declined(Notify(NotifyType.NO_PROPOSAL_CHOSEN))
        shared, more = self._agree_child(chosen[1], value)
        local, remote = _agreed(payloads, old, initiated=False)
        if not local or not remote:
            raise _Declined(Notify(NotifyType.TS_UNACCEPTABLE))
        spi, own = fresh_spi(self._random), self._random(32)
        keys = derive_child_keys(self.keys, chosen[1], nonce.data, own, shared)
        spis = int.from_bytes(spi), int.from_bytes(chosen[0].spi)
        made = ChildEstablished(now, *spis, keys, old.inner, local, remote, as_initiator=False)
        proposal = type(chosen[0])(chosen[0].number, Protocol.ESP, spi, chosen[0].transforms)
        answer: list[Payload] = [
            SecurityAssociation((proposal,)),
            Nonce(own),
            *more,
            selectors(PayloadType.TSi, remote),
            selectors(PayloadType.TSr, local),
        ]
        return made, answer, min(nonce.data, own)

    def _agree_child(self, suite: Suite, value: KeyExchange | None) -> tuple[bytes, list[Payload]]:
        """The shared secret of a new key exchange, if one was chosen, and our half of it."""
        if not suite.group:
            return b"", []
        if value is None or value.group != suite.group or suite.group not in METHODS:
            raise _Declined(Notify(NotifyType.INVALID_KE_PAYLOAD, suite.group.to_bytes(2)))
        agreement = make_key_agreement(suite.group, self._random)
        try:
            shared = agreement.shared(value.data)
        except Malformed:
            raise _Declined(Notify(NotifyType.INVALID_SYNTAX)) from None
        return shared, [KeyExchange(agreement.group, agreement.public)]

    # Deleting.

    def _take_deletes(self, payloads: Sequence[Payload], now: float) -> tuple[list[Payload], bool]:
        """RFC 7296 §1.4.1: answer with the other half of each pair; whether the pair in use was among them."""
        gone: list[bytes] = []
        current = False
        for entry in payloads:
            if not isinstance(entry, Delete) or entry.protocol != Protocol.ESP:
                continue
            for spi in entry.spis:
                child = self._by_peer_spi(spi)
                if child is None:
                    continue
                if child is self.child:
                    self.child, current = None, True
                self._replaced.pop(child.spi_in, None)
                self._events.append(ChildGone(now, child.spi_in))
                gone.append(child.spi_in.to_bytes(4))
        return ([Delete(Protocol.ESP, tuple(gone))] if gone else []), current

    def _by_peer_spi(self, spi: bytes) -> ChildEstablished | None:
        known = [*self._replaced.values(), *([self.child] if self.child else [])]
        return next((child for child in known if child.spi_out.to_bytes(4) == spi), None)

    def _take_informational_response(self, message: Message, now: float) -> bool:
        """The answer to a probe or to our own DELETE: pairs that the peer has let go of are gone.

        False where the IKE SA has to be closed (RFC 4555 §3.7).
        """
        payloads = self._open(message)
        self._expect_answer(message)
        if not self._take_mobility_answer(payloads, now):
            return False
        self._take_deletes(payloads, now)
        gone, self._deleting = self._deleting, None
        if gone is not None and self._replaced.pop(gone, None) is not None:
            self._events.append(ChildGone(now, gone))
        return True


class _Declined(Exception):
    """A rekeying that is answered with a notification."""

    def __init__(self, notify: Notify) -> None:
        super().__init__(notify.notification)
        self.notify = notify


def _agreed(
    payloads: Sequence[Payload], old: ChildEstablished, *, initiated: bool
) -> tuple[tuple[AddressRange, ...], tuple[AddressRange, ...]]:
    """Local and remote ranges of a new pair: never more than the old one had (RFC 7296 §2.9.2)."""
    one = find_typed(payloads, TrafficSelectors, PayloadType.TSi)
    two = find_typed(payloads, TrafficSelectors, PayloadType.TSr)
    if one is None or two is None:
        return (), ()
    ours, theirs = (one, two) if initiated else (two, one)
    return intersect(ranges_of(ours), old.local), intersect(ranges_of(theirs), old.remote)
