"""Child SAs: rekeyed and deleted, asked for by either side, or by both at once (RFC 7296 §1.3.3, §1.4.1, §2.8)."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement, make_key_agreement
from zesty_burrow.core.net import AddressRange, intersect
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import ChildEstablished, ChildGone, ChildRekeyed, NotRenewed
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.followup_ke import FollowUp
from zesty_burrow.protocols.ikev2.machine.negotiation import (
    fresh_spi,
    ranges_of,
    refusal_in_words,
    selectors,
    wanted_group,
)
from zesty_burrow.protocols.ikev2.wire.keys import derive_child_keys
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable, find, find_typed, notifications
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import (
    Delete,
    KeyExchange,
    Nonce,
    Notify,
    Payload,
    SecurityAssociation,
    TrafficSelectors,
)
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer, build_proposals, choose
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, PayloadType, Protocol
from zesty_burrow.records import dataclass, field, replace


@dataclass(slots=True)
class Pending:
    """A rekeying that this side has asked for. ``tried``: groups of which a value was sent."""

    old: ChildEstablished
    spi: bytes
    nonce: bytes
    agreement: KeyAgreement
    offers: tuple[Offer, ...]
    tried: frozenset[int]


@dataclass(frozen=True, slots=True)
class GrantedChild:
    """What the peer has answered: its SPI and nonce, the suite, the secret of the key exchange, and the ranges."""

    spi: int
    nonce: bytes
    suite: Suite
    shared: bytes = field(repr=False)
    local: tuple[AddressRange, ...]
    remote: tuple[AddressRange, ...]


@dataclass(slots=True)
class Rival:
    """A child SA that the peer has made in the meantime, with the lower of its two nonces (RFC 7296 §2.8.1)."""

    child: ChildEstablished
    lowest: bytes


class ChildSas:
    """The part of both ends that knows of child SAs.

    ``child``: the pair in use. ``replaced``: those that are about to be deleted. ``offers``: what is asked for and
    accepted, and ``groups``: with which key exchanges when keys are renewed. ``rekey_due``: when new keys are to be
    asked for.
    """

    def __init__(
        self, end: IkeEndpoint, followup: FollowUp, offers: tuple[Offer, ...], groups: tuple[int, ...]
    ) -> None:
        self.child: ChildEstablished | None = None
        self.rekey_due: float | None = None
        self._end = end
        self._followup = followup
        self.offers = offers
        self._groups = groups
        self._group = 0
        self._refusals = 0
        self.replaced: dict[int, ChildEstablished] = {}
        self._pending: Pending | None = None
        self._rival: Rival | None = None
        self._deleting: int | None = None

    @property
    def is_busy(self) -> bool:
        """Whether a child SA is being made or deleted (RFC 7296 §2.25.2)."""
        return self._pending is not None or self._deleting is not None

    def _rekey_offers(self) -> tuple[Offer, ...]:
        """As for the first child SA, with a key exchange, so that old keys tell nothing; without one at last.

        The group that the peer has taken before comes first, else the IKE SA's. A second key exchange is offered and
        not insisted on, as the first child SA has none either.
        """
        suite = self._end.keys.suite if self._end.keys else None
        group, extra = (suite.group, suite.extra) if suite else (0, 0)
        groups = tuple(dict.fromkeys(one for one in (self._group, group, *self._groups) if one in METHODS))
        plain = tuple(Offer(offer.encryption, offer.integrity, groups=groups, esn=offer.esn) for offer in self.offers)
        return (*(replace(one, extra=(extra,)) for one in plain if extra), *plain, *self.offers)

    # Rekeying.

    def begin_rekey(self, now: float) -> bool:
        """Ask for a new pair of SAs in place of the present one; False where it has to wait."""
        child = self.child
        if child is None or self._end.sa.outstanding is not None or self._pending is not None or self._end.keys is None:
            return False
        offers = self._rekey_offers()
        self._ask(
            child, offers, offers[0].groups[0] if offers[0].groups else self._end.keys.suite.group, frozenset(), now
        )
        return True

    def _ask(
        self, child: ChildEstablished, offers: tuple[Offer, ...], group: int, tried: frozenset[int], now: float
    ) -> None:
        agreement = make_key_agreement(group, self._end.random)
        spi, nonce = fresh_spi(self._end.random), self._end.random(32)
        self._pending = Pending(child, spi, nonce, agreement, offers, tried | {group})
        old = child.spi_in.to_bytes(4)
        self._end.request(
            ExchangeType.CREATE_CHILD_SA,
            [
                Notify(NotifyType.REKEY_SA, protocol=Protocol.ESP, spi=old),
                SecurityAssociation(build_proposals(offers, Protocol.ESP, spi)),
                Nonce(nonce),
                KeyExchange(agreement.group, agreement.public),
                selectors(PayloadType.TSi, child.local),
                selectors(PayloadType.TSr, child.remote),
            ],
            now,
        )

    def take_response(self, payloads: Sequence[Payload], now: float, why: str = "") -> None:
        """The peer's answer to a rekeying; what it refuses is tried again later. ``why``: it cannot be used."""
        pending = self._pending
        if pending is None:
            raise Malformed("a message was dropped", why="no child SA was asked for")
        told = notifications(payloads)
        wanted = wanted_group(told, pending.offers, pending.tried)
        if wanted:
            # RFC 7296 §1.3: the same again with a value of the group that the peer names.
            self._ask(pending.old, pending.offers, wanted, pending.tried, now)
            return
        granted = _granted(pending, payloads, self._end.keys.suite.prf if self._end.keys else 0)
        if granted is None:
            if self._rival is None and NotifyType.TEMPORARY_FAILURE not in told:
                self._end.events.append(NotRenewed(now, "ESP", why or refusal_in_words(told)))
            self._end_rekey(None, None, now)
        elif granted.suite.extra:
            self._followup.follow_up(payloads, now, lambda more, now: self._end_rekey(granted, more, now))
        else:
            self._end_rekey(granted, b"", now)

    def _end_rekey(self, granted: GrantedChild | None, more: bytes | None, now: float) -> None:
        """What was asked for is made, or was refused."""
        pending, self._pending = self._pending, None
        rival, self._rival = self._rival, None
        if granted is None or more is None or pending is None or self._end.keys is None:
            if granted is not None and rival is None:
                self._end.events.append(NotRenewed(now, "ESP", "the second key exchange came to nothing"))
            if rival is None:
                self.rekey_due = self._end.retry_time(now, self._refusals)
                self._refusals += 1
            return
        self._refusals, self._group = 0, granted.suite.group
        old, nonces, suite = pending.old, (pending.nonce, granted.nonce), granted.suite
        keys = derive_child_keys(self._end.keys, suite, *nonces, granted.shared, more)
        spis = int.from_bytes(pending.spi), granted.spi
        made = replace(
            old,
            at=now,
            spi_in=spis[0],
            spi_out=spis[1],
            keys=keys,
            local=granted.local,
            remote=granted.remote,
            as_initiator=True,
        )
        if rival is not None and min(nonces) < rival.lowest:
            # RFC 7296 §2.8.1: the pair with the lowest nonce goes, by the side that has made it, before it was used.
            self._delete_child(made, now)
            return
        if rival is not None:
            self.replaced[rival.child.spi_in] = rival.child
        self._replace(old, made, now, by_peer=False)
        self._delete_child(old, now)

    def _replace(self, old: ChildEstablished, made: ChildEstablished, now: float, *, by_peer: bool) -> None:
        self.replaced[old.spi_in] = old
        self.child = made
        self._end.events.append(ChildRekeyed(now, old.spi_in, made, by_peer))

    def _delete_child(self, child: ChildEstablished, now: float) -> None:
        self._deleting = child.spi_in
        self._end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.ESP, (child.spi_in.to_bytes(4),))], now)

    def take_request(self, message: Message, payloads: Sequence[Payload], now: float) -> None:
        """The peer asks to rekey a child SA; anything else in such an exchange is declined (RFC 7296 §1.3)."""
        told = notifications(payloads).get(NotifyType.REKEY_SA)
        old = self.child
        if told is None or told.protocol != Protocol.ESP or self._end.keys is None:
            self._end.respond(message, [Notify(NotifyType.NO_ADDITIONAL_SAS)])
            return
        if old is None or told.spi != old.spi_out.to_bytes(4):
            self._end.respond(message, [Notify(NotifyType.CHILD_SA_NOT_FOUND, protocol=Protocol.ESP, spi=told.spi)])
            return
        try:
            self._grant_rekey(message, payloads, old, now)
        except _Declined as declined:
            self._end.respond(message, [declined.notify])

    def _grant_rekey(self, message: Message, payloads: Sequence[Payload], old: ChildEstablished, now: float) -> None:
        asked, nonce = find(payloads, SecurityAssociation), find(payloads, Nonce)
        value, ike = find(payloads, KeyExchange), self._end.keys
        if asked is None or nonce is None or ike is None or not nonce.is_long_enough(ike.suite.prf):
            raise Unusable.by_syntax("a request for a child SA is incomplete, or its nonce is too short")
        # Without a KE payload the peer does not want one, where it can do without.
        offers = self._rekey_offers() if value else (*self.offers, *self._rekey_offers())
        chosen = choose(asked.proposals, offers, Protocol.ESP, preferred_group=value.group if value else 0)
        if chosen is None or len(chosen[0].spi) != 4 or int.from_bytes(chosen[0].spi) < 256:
            raise _Declined(Notify(NotifyType.NO_PROPOSAL_CHOSEN))
        proposal, suite = chosen
        shared, values = self._agree_child(suite, value)
        local, remote = _agreed(payloads, old, initiated=False)
        if not local or not remote:
            raise _Declined(Notify(NotifyType.TS_UNACCEPTABLE))
        spi, own, theirs = fresh_spi(self._end.random), self._end.random(32), nonce.data
        spis = int.from_bytes(spi), int.from_bytes(proposal.spi)

        def make(more: bytes, now: float) -> bool:
            if self.child is not old:
                return False
            keys = derive_child_keys(ike, suite, theirs, own, shared, more)
            made = replace(
                old, at=now, spi_in=spis[0], spi_out=spis[1], keys=keys, local=local, remote=remote, as_initiator=False
            )
            if self._pending is not None:
                self._rival = Rival(made, min(theirs, own))
            self._replace(old, made, now, by_peer=True)
            return True

        said: list[Payload] = [SecurityAssociation((replace(proposal, spi=spi),)), Nonce(own), *values]
        ranges = [selectors(PayloadType.TSi, remote), selectors(PayloadType.TSr, local)]
        if suite.extra:
            self._end.respond(message, [*said, *ranges, self._followup.promise_more(suite.extra, now, make)])
        else:
            self._end.respond(message, [*said, *ranges])
            make(b"", now)

    def _agree_child(self, suite: Suite, value: KeyExchange | None) -> tuple[bytes, list[Payload]]:
        """The shared secret of a new key exchange, if one was chosen, and our half of it."""
        if not suite.group:
            return b"", []
        if value is None or value.group != suite.group or suite.group not in METHODS:
            raise _Declined(Notify(NotifyType.INVALID_KE_PAYLOAD, suite.group.to_bytes(2)))
        agreement = make_key_agreement(suite.group, self._end.random)
        try:
            shared = agreement.shared(value.data)
        except Malformed as problem:
            raise Unusable.by_syntax(str(problem)) from None
        return shared, [KeyExchange(agreement.group, agreement.public)]

    # Deleting.

    def take_deletes(self, payloads: Sequence[Payload], now: float) -> tuple[list[Payload], bool]:
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
                    # The peer's own pair lost against ours, of which its answer is still on the way (§2.8.1).
                    undone = self._pending if self._rival is not None and self._rival.child is child else None
                    self.child, current = (undone.old, current) if undone is not None else (None, True)
                    if undone is not None:
                        self.replaced.pop(undone.old.spi_in, None)
                        self._rival = None
                self.replaced.pop(child.spi_in, None)
                self._end.events.append(ChildGone(now, child.spi_in))
                gone.append(child.spi_in.to_bytes(4))
        return ([Delete(Protocol.ESP, tuple(gone))] if gone else []), current

    def _by_peer_spi(self, spi: bytes) -> ChildEstablished | None:
        known = [*self.replaced.values(), *([self.child] if self.child else [])]
        return next((child for child in known if child.spi_out.to_bytes(4) == spi), None)

    def take_deletes_answered(self, payloads: Sequence[Payload], now: float) -> None:
        """The answer to a probe or to our own DELETE: pairs that the peer has deleted are gone."""
        self.take_deletes(payloads, now)
        gone, self._deleting = self._deleting, None
        if gone is not None and self.replaced.pop(gone, None) is not None:
            self._end.events.append(ChildGone(now, gone))


class _Declined(Exception):
    """A rekeying that is answered with a notification."""

    def __init__(self, notify: Notify) -> None:
        super().__init__(notify.notification)
        self.notify = notify


def _granted(pending: Pending, payloads: Sequence[Payload], prf: int) -> GrantedChild | None:
    """What an answer to a rekeying grants; None where it refuses, or grants what was not asked for."""
    answer, nonce, value = find(payloads, SecurityAssociation), find(payloads, Nonce), find(payloads, KeyExchange)
    accepted = accept_answer(answer.proposals, pending.offers, Protocol.ESP) if answer else None
    if accepted is None or nonce is None or not nonce.is_long_enough(prf):
        return None
    local, remote = _agreed(payloads, pending.old, initiated=True)
    if not local or not remote or len(accepted[0].spi) != 4 or int.from_bytes(accepted[0].spi) < 256:
        return None
    shared, group = b"", accepted[1].group
    if group:
        if value is None or not value.group == group == pending.agreement.group:
            return None
        try:
            shared = pending.agreement.shared(value.data)
        except Malformed:
            return None
    return GrantedChild(int.from_bytes(accepted[0].spi), nonce.data, accepted[1], shared, local, remote)


def _agreed(
    payloads: Sequence[Payload], old: ChildEstablished, *, initiated: bool
) -> tuple[tuple[AddressRange, ...], tuple[AddressRange, ...]]:
    """Local and remote ranges of a new pair: never more than the old one had (RFC 7296 §2.9.2).

    None where it leaves out an address that is in use.
    """
    one = find_typed(payloads, TrafficSelectors, PayloadType.TSi)
    two = find_typed(payloads, TrafficSelectors, PayloadType.TSr)
    if one is None or two is None:
        return (), ()
    ours, theirs = (one, two) if initiated else (two, one)
    local, remote = intersect(ranges_of(ours), old.local), intersect(ranges_of(theirs), old.remote)
    own = [entry.ip.packed for entry in old.inner.addresses]
    inside = local if old.is_caller else remote
    return (local, remote) if all(any(address in one for one in inside) for address in own) else ((), ())
