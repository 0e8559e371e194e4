"""What a side offers and how the other chooses (RFC 7296 §2.7, §3.3)."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, TransformType
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.ikev2.wire.payloads import Proposal, Transform
from zesty_burrow.protocols.ikev2.wire.registry import Protocol

T = TransformType
ADDITIONAL = range(6, 13)
"""RFC 9370 §2.1: transform types ADDKE1 to ADDKE7."""


def transforms_of(offer: Offer) -> tuple[Transform, ...]:
    """As they stand in a proposal."""
    rows = [Transform(T.ENCR, number, bits) for number, bits in offer.encryption]
    rows += [Transform(T.PRF, number) for number in offer.prf]
    rows += [Transform(T.INTEG, number) for number in offer.integrity]
    rows += [Transform(T.KE, number) for number in offer.groups]
    rows += [Transform(T.ESN, number) for number in offer.esn]
    rows += [Transform(T.ADDKE1, number) for number in offer.extra]
    return tuple(rows)


def build_proposals(offers: Sequence[Offer], protocol: int, spi: bytes) -> tuple[Proposal, ...]:
    return tuple(Proposal(index, protocol, spi, transforms_of(offer)) for index, offer in enumerate(offers, start=1))


def choose(
    theirs: Sequence[Proposal], ours: Sequence[Offer], protocol: int, preferred_group: int = 0
) -> tuple[Proposal, Suite] | None:
    """The responder's choice: the first of ``ours`` that some proposal of ``theirs`` allows.

    ``preferred_group`` is the group of the KE payload that came along; it wins over our own order if both allow
    it, since that saves a round trip. Returns the proposal to answer with and its suite.
    """
    for offer in ours:
        for proposal in theirs:
            if proposal.protocol != protocol:
                continue
            chosen = _match(proposal, offer, preferred_group)
            if chosen is not None:
                return Proposal(proposal.number, protocol, proposal.spi, chosen), suite_of(chosen)
    return None


def _first_in_common(proposal: Proposal, offer: Offer, preferred_group: int) -> dict[int, Transform]:
    """By type: the first of ours that the other side names as well."""
    theirs = set(proposal.transforms)
    ours = list(transforms_of(offer))
    if preferred_group:
        ours.sort(key=lambda entry: (entry.type == T.KE, entry.number != preferred_group if entry.type == T.KE else 0))
    chosen: dict[int, Transform] = {}
    for entry in ours:
        if entry in theirs:
            chosen.setdefault(entry.type, entry)
    for entry in proposal.transforms:
        # RFC 9370 §2.2.1: a peer that names NONE as well can do without this (additional) key exchange.
        if (entry.type in ADDITIONAL or entry.type == T.KE) and not entry.number:
            chosen.setdefault(entry.type, entry)
    return chosen


def _match(proposal: Proposal, offer: Offer, preferred_group: int) -> tuple[Transform, ...] | None:
    theirs = set(proposal.transforms)
    kinds = {entry.type for entry in proposal.transforms}
    chosen = _first_in_common(proposal, offer, preferred_group)
    encryption = chosen.get(T.ENCR)
    wanted = ((offer.groups, T.KE), (offer.extra, T.ADDKE1))
    if encryption is None or any(ours and (kind not in chosen or not chosen[kind].number) for ours, kind in wanted):
        return None
    needed = set(kinds)
    if encryption.number in AEAD_NUMBERS:
        # RFC 5282 §8: no integrity algorithm beside a combined-mode cipher; NONE (0) may be named.
        needed.discard(T.INTEG)
        chosen.pop(T.INTEG, None)
        if any(entry.type == T.INTEG and entry.number != 0 for entry in theirs):
            return None
    if needed - set(chosen):
        return None
    return tuple(chosen[kind] for kind in sorted(chosen))


def suite_of(transforms: Sequence[Transform]) -> Suite:
    """The suite that a chosen proposal's transforms mean."""
    by_kind = {entry.type: entry for entry in transforms}
    absent = Transform(0, 0)
    encryption = by_kind.get(T.ENCR, absent)
    return Suite(
        encryption.number,
        encryption.key_bits,
        by_kind.get(T.INTEG, absent).number,
        by_kind.get(T.PRF, absent).number,
        by_kind.get(T.KE, absent).number,
        by_kind.get(T.ESN, absent).number,
        by_kind.get(T.ADDKE1, absent).number,
    )


def accept_answer(answer: Sequence[Proposal], ours: Sequence[Offer], protocol: int) -> tuple[Proposal, Suite] | None:
    """The initiator's check of the responder's choice: exactly one proposal, one transform a type, all offered.

    RFC 7296 §2.7: an answer that was not offered must be refused; this is what holds a downgrade off.
    """
    if len(answer) != 1 or answer[0].protocol != protocol:
        return None
    proposal = answer[0]
    if not 1 <= proposal.number <= len(ours):
        return None
    offered = transforms_of(ours[proposal.number - 1])
    kinds = [entry.type for entry in proposal.transforms]
    if len(set(kinds)) != len(kinds) or not set(proposal.transforms) <= set(offered):
        return None
    required = {entry.type for entry in offered}
    if protocol == Protocol.ESP:
        required.discard(T.ESN)
    if not required <= set(kinds):
        return None
    return proposal, suite_of(proposal.transforms)
