"""One IKE SA follows another: keys are renewed without a new sign-in (RFC 7296 §1.3.2, §2.8, §2.18, §2.25.2).

While that happens there are several: the one in use; one that the peer has made while our own request is on its way
(the rival); and those that are about to be deleted. Child SAs belong to whichever is in use.
"""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.crypto.key_exchange import METHODS, KeyAgreement, make_key_agreement
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ikev2.events import IkeRekeyed, NotRenewed
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.followup_ke import FollowUp
from zesty_burrow.protocols.ikev2.machine.ike_sa import IkeSa
from zesty_burrow.protocols.ikev2.machine.negotiation import refusal_in_words
from zesty_burrow.protocols.ikev2.wire.keys import derive_ike_keys
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable, find, notifications
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, KeyExchange, Nonce, Notify, Payload, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.proposals import accept_answer, build_proposals, choose
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol
from zesty_burrow.records import dataclass, field, replace


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
    """An IKE SA that the peer has made in the meantime, with the lower of its two nonces (RFC 7296 §2.8.1)."""

    sa: IkeSa
    lowest: bytes


class IkeRekey:
    """The part of both ends that knows of more than one IKE SA. ``due``: when new keys are to be asked for."""

    def __init__(self, end: IkeEndpoint, followup: FollowUp, offers: tuple[Offer, ...]) -> None:
        self.due: float | None = None
        self._end = end
        self._followup = followup
        self._offers = offers
        self._successor: Successor | None = None
        self._rival_sa: RivalSa | None = None
        self._refusals = 0

    @property
    def is_pending(self) -> bool:
        """Whether this side has asked for a new IKE SA and does not have it yet."""
        return self._successor is not None

    def forget_rival(self, sa: IkeSa) -> None:
        """The peer has deleted an IKE SA that it had made itself."""
        if self._rival_sa is not None and self._rival_sa.sa is sa:
            self._rival_sa = None

    def begin(self, now: float) -> bool:
        """Ask for a new IKE SA in place of the present one; False where that has to wait."""
        keys = self._end.sa.keys
        if keys is None or self._end.sa.outstanding is not None or self._successor is not None:
            return False
        suite = keys.suite
        # The same algorithms again: nothing to disagree about, and nothing weaker.
        integrity = (suite.integrity,) if suite.integrity else ()
        extra = (suite.extra,) if suite.extra else ()
        offers = (Offer(((suite.encryption, suite.key_bits),), integrity, (suite.prf,), (suite.group,), (), extra),)
        sa = IkeSa(self._end.random, is_initiator=True)
        sa.spi_i = self._end.fresh_ike_spi()
        agreement = make_key_agreement(suite.group, self._end.random)
        self._successor = Successor(sa, self._end.random(32), agreement, offers)
        self._end.request(
            ExchangeType.CREATE_CHILD_SA,
            [
                SecurityAssociation(build_proposals(offers, Protocol.IKE, sa.spi_i)),
                Nonce(self._successor.nonce),
                KeyExchange(agreement.group, agreement.public),
            ],
            now,
        )
        return True

    def take_request(self, message: Message, payloads: Sequence[Payload], now: float) -> None:
        """The peer asks for a new IKE SA."""
        asked, nonce, value = find(payloads, SecurityAssociation), find(payloads, Nonce), find(payloads, KeyExchange)
        keys = self._end.sa.keys
        if asked is None or nonce is None or value is None or keys is None or not nonce.is_long_enough(keys.suite.prf):
            raise Unusable.by_syntax("a request for an IKE SA is incomplete, or its nonce is too short")
        chosen = choose(asked.proposals, self._offers, Protocol.IKE, preferred_group=value.group)
        if chosen is None or len(chosen[0].spi) != 8 or chosen[0].spi == bytes(8):
            self._end.respond(message, [Notify(NotifyType.NO_PROPOSAL_CHOSEN)])
            return
        proposal, suite = chosen
        if not nonce.is_long_enough(suite.prf):
            raise Unusable.by_syntax("the nonce for an IKE SA is too short (RFC 7296 §2.10)")
        if suite.group != value.group or suite.group not in METHODS:
            self._end.respond(message, [Notify(NotifyType.INVALID_KE_PAYLOAD, suite.group.to_bytes(2))])
            return
        agreement = make_key_agreement(suite.group, self._end.random)
        try:
            shared = agreement.shared(value.data)
        except Malformed as problem:
            raise Unusable.by_syntax(str(problem)) from None
        old, made, own, theirs = (
            self._end.sa,
            IkeSa(self._end.random, is_initiator=False),
            self._end.random(32),
            nonce.data,
        )
        made.spi_i, made.spi_r, made.fragmenting = proposal.spi, self._end.fresh_ike_spi(), old.fragmenting

        def make(more: bytes, now: float) -> bool:
            if self._end.sa is not old:
                return False
            made.use_keys(derive_ike_keys(suite, shared, theirs, own, made.spi_i, made.spi_r, keys, more))
            if self._successor is None:
                self._use(made, now)
            else:
                self._rival_sa = RivalSa(made, min(theirs, own))
                self._end.others.append(made)
            return True

        answer = replace(proposal, spi=made.spi_r)
        value_back = KeyExchange(agreement.group, agreement.public)
        said: list[Payload] = [SecurityAssociation((answer,)), Nonce(own), value_back]
        if suite.extra:
            self._end.respond(message, [*said, self._followup.promise_more(suite.extra, now, make)])
        else:
            self._end.respond(message, said)
            make(b"", now)

    def take_response(self, payloads: Sequence[Payload], now: float, why: str = "") -> None:
        """The peer's answer; what it refuses is tried again later, unless it has made one itself.

        ``why``: it cannot be used.
        """
        successor = self._successor
        granted = self._granted(successor, payloads) if successor is not None else None
        if granted is None:
            told = notifications(payloads)
            if self._rival_sa is None and NotifyType.TEMPORARY_FAILURE not in told:
                self._end.events.append(NotRenewed(now, "IKE", why or refusal_in_words(told)))
            self._finish(None, None, now)
        elif granted.suite.extra:
            self._followup.follow_up(payloads, now, lambda more, now: self._finish(granted, more, now))
        else:
            self._finish(granted, b"", now)

    def _granted(self, successor: Successor, payloads: Sequence[Payload]) -> Granted | None:
        answer, nonce, value = find(payloads, SecurityAssociation), find(payloads, Nonce), find(payloads, KeyExchange)
        accepted = accept_answer(answer.proposals, successor.offers, Protocol.IKE) if answer else None
        if accepted is None or nonce is None or value is None or not nonce.is_long_enough(accepted[1].prf):
            return None
        spi = accepted[0].spi
        if value.group != successor.agreement.group or len(spi) != 8 or spi == bytes(8):
            return None
        try:
            return Granted(spi, nonce.data, accepted[1], successor.agreement.shared(value.data))
        except Malformed:
            return None

    def _finish(self, granted: Granted | None, more: bytes | None, now: float) -> None:
        """What was asked for is made, or was refused."""
        successor, self._successor = self._successor, None
        rival, self._rival_sa = self._rival_sa, None
        keys = self._end.sa.keys
        if granted is None or more is None or successor is None or keys is None:
            if rival is not None:
                self._use(rival.sa, now)
            else:
                if granted is not None:
                    self._end.events.append(NotRenewed(now, "IKE", "the second key exchange came to nothing"))
                self.due = self._end.retry_time(now, self._refusals)
                self._refusals += 1
            return
        self._refusals = 0
        sa, nonces = successor.sa, (successor.nonce, granted.nonce)
        sa.spi_r, sa.fragmenting = granted.spi, self._end.sa.fragmenting
        sa.use_keys(derive_ike_keys(granted.suite, granted.shared, *nonces, sa.spi_i, sa.spi_r, keys, more))
        if rival is not None and min(nonces) < rival.lowest:
            # RFC 7296 §2.8.1: the SA with the lowest nonce goes, by the side that has asked for it.
            self._end.retire(sa, now)
            self._end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, sa=sa)
            self._use(rival.sa, now)
            return
        old = self._end.sa
        if rival is not None:
            self._end.retire(rival.sa, now)
        self._use(sa, now)
        self._end.request(ExchangeType.INFORMATIONAL, [Delete(Protocol.IKE)], now, sa=old)

    def _use(self, made: IkeSa, now: float) -> None:
        """From now on by this SA. A probe by the old one is dropped; the next is due at its usual time."""
        old, self._end.sa = self._end.sa, made
        self._followup.forget()
        self._end.drop(made)
        made.expires = float("inf")
        old.outstanding = None
        self._end.retire(old, now)
        suite = made.keys.suite if made.keys else None
        self.due = None
        if suite is not None:
            self._end.events.append(IkeRekeyed(now, suite))

    def replace_by_rival(self, now: float) -> bool:
        """The peer has deleted the SA in use while one that it has made is ready."""
        rival, self._rival_sa = self._rival_sa, None
        self._successor = None
        if rival is None:
            return False
        self._use(rival.sa, now)
        return True
