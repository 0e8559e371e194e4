"""What both ends do while an IKE SA lasts: which part takes a message, and which may begin something now.

RFC 7296 §1.4, §2.25: while one kind of rekeying is under way, the other has to wait.
"""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.errors import ProgramFault
from zesty_burrow.protocols.ikev2.events import Closed
from zesty_burrow.protocols.ikev2.machine.child_sa import ChildSas
from zesty_burrow.protocols.ikev2.machine.endpoint import IkeEndpoint
from zesty_burrow.protocols.ikev2.machine.followup_ke import FollowUp
from zesty_burrow.protocols.ikev2.machine.ike_rekey import IkeRekey
from zesty_burrow.protocols.ikev2.machine.mobility import Mobility
from zesty_burrow.protocols.ikev2.wire.message import Message, Unusable, find, notifications
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Delete, Notify, Payload, SecurityAssociation
from zesty_burrow.protocols.ikev2.wire.registry import ExchangeType, NotifyType, Protocol
from zesty_burrow.protocols.pace import Pace


class Associations:
    """The child SAs, the IKE SAs, second key exchanges and changed addresses of one end."""

    def __init__(
        self, end: IkeEndpoint, ike_offers: tuple[Offer, ...], esp_offers: tuple[Offer, ...], *, is_caller: bool
    ) -> None:
        self.followup = FollowUp(end)
        self.ike = IkeRekey(end, self.followup, ike_offers)
        groups = tuple(dict.fromkeys(group for offer in ike_offers for group in offer.groups))
        self.children = ChildSas(end, self.followup, esp_offers, groups)
        self.mobility = Mobility(end, is_caller=is_caller)
        self._end = end
        self._pace = Pace()

    def begin_child_rekey(self, now: float) -> bool:
        """Ask for a new pair of child SAs; False where that has to wait."""
        if self.ike.is_pending or self.followup.has_promised(now):
            return False
        return self.children.begin_rekey(now)

    def begin_ike_rekey(self, now: float) -> bool:
        """Ask for a new IKE SA; False where that has to wait."""
        if self.children.is_busy or self.followup.has_promised(now):
            return False
        return self.ike.begin(now)

    def take_child_request(self, message: Message, now: float) -> None:
        """CREATE_CHILD_SA from the peer: for a new IKE SA or for a new pair of child SAs, not too many at a time."""
        payloads = self._end.open(message)
        self.followup.forget_promise()
        asked = find(payloads, SecurityAssociation)
        for_ike = asked is not None and asked.proposals[0].protocol == Protocol.IKE
        busy = self.children.is_busy if for_ike else self.ike.is_pending
        if busy or not self._pace.allows(now):
            self._end.respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
        elif for_ike:
            self.ike.take_request(message, payloads, now)
        else:
            self.children.take_request(message, payloads, now)

    def take_child_response(self, message: Message, now: float) -> bool:
        """The answer to our own CREATE_CHILD_SA; False where the IKE SA is gone by it."""
        payloads = self._end.open(message)
        self._end.expect_answer(message)
        if self._ends(payloads, now):
            return False
        if self.ike.is_pending:
            self.ike.take_response(payloads, now)
        else:
            self.children.take_response(payloads, now)
        return True

    def take_followup_response(self, message: Message, now: float) -> bool:
        """The answer to our own IKE_FOLLOWUP_KE; False where the IKE SA is gone by it."""
        if self._ends(self._end.open(message), now):
            return False
        self.followup.take_response(message, now)
        return True

    def take_unusable_response(self, message: Message, now: float) -> bool:
        """An answer that cannot be used counts as a refusal; False where the IKE SA has to be closed."""
        self._end.expect_answer(message)
        problem = self._end.unusable
        if problem is None:
            raise ProgramFault("nothing is wrong with a message that cannot be used")
        if message.header.exchange == ExchangeType.INFORMATIONAL:
            return False
        self.followup.forget()
        if self.ike.is_pending:
            self.ike.take_response((), now, problem.why)
        else:
            self.children.take_response((), now, problem.why)
        return True

    def _ends(self, payloads: Sequence[Payload], now: float) -> bool:
        """RFC 7296 §2.21.3: INVALID_SYNTAX ends the IKE SA on both sides, without a DELETE."""
        if NotifyType.INVALID_SYNTAX not in notifications(payloads):
            return False
        why = "the other side could not read a message and let the tunnel go (INVALID_SYNTAX)"
        self._end.events.append(Closed(now, by_peer=True, reason=why))
        return True

    def take_informational_response(self, message: Message, now: float) -> bool:
        """The answer to a probe, an update of addresses or a DELETE; False where the IKE SA has to be closed."""
        payloads = self._end.open(message)
        self._end.expect_answer(message)
        if self._ends(payloads, now) or not self.mobility.take_answer(payloads, now):
            return False
        self.children.take_deletes_answered(payloads, now)
        return True

    def take_by_other_sa(self, message: Message, now: float) -> None:
        """A message by an IKE SA that is not in use."""
        sa = self._end.at
        try:
            payloads = self._end.open(message)
        except Unusable as problem:
            if message.header.is_response or (self._end.refuse(message, problem) and problem.is_fatal):
                self.ike.forget_rival(sa)
                self._end.drop(sa)
            return
        if message.header.is_response:
            self._end.expect_answer(message)
            self._end.drop(sa)
            return
        if self._end.take_answer_again(message):
            return
        if message.header.exchange != ExchangeType.INFORMATIONAL:
            self._end.respond(message, [Notify(NotifyType.TEMPORARY_FAILURE)])
            return
        deleted, _ = self.children.take_deletes(payloads, now)
        self._end.respond(message, [*deleted, *self.mobility.answer(payloads)])
        if deletes_ike_sa(payloads):
            # It stays for a moment, in case the answer is lost.
            self.ike.forget_rival(sa)
            self._end.retire(sa, now)


def deletes_ike_sa(payloads: Sequence[Payload]) -> bool:
    """Whether the peer ends the IKE SA by which this came (RFC 7296 §1.4.1)."""
    return any(isinstance(entry, Delete) and entry.protocol == Protocol.IKE for entry in payloads)
