"""Advice about IKEv2: what each end can do, what would come of it, what should be taken, and why."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, TransformType
from zesty_burrow.core.policy.policy import Policy, opinion
from zesty_burrow.core.policy.strength import strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.advice import AdviceRow, AlgorithmAdvice, Answer, Costs, Preference, Reason
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.ikev2.facets.device import KINDS_OF_ALGORITHMS
from zesty_burrow.protocols.ikev2.probe import IkeCapabilities
from zesty_burrow.protocols.ikev2.settings import settings_of
from zesty_burrow.protocols.session import Capabilities
from zesty_burrow.records import replace

T = TransformType
GOOD_BITS = 128
"""What is aimed at where there is a choice: the level of today's mandatory curves and ciphers (NIST SP 800-57)."""


class IkeAdvice:
    """Every algorithm that IANA has for it, compared."""

    source = "RFC 8247, RFC 8221"
    preferences = (
        Preference(10, "UDP", "the least overhead and the highest throughput", "docs/performance.md"),
        Preference(
            40,
            "TCP",
            "where the gateway speaks no HTTP: as quick, by a port that fewer networks let out",
            "docs/performance.md",
        ),
    )

    def advise(
        self, profile: Profile, policy: Policy, client: Client, costs: Costs, known: Capabilities | None
    ) -> AlgorithmAdvice | None:
        """Rows, the best suite and why. A gateway that has not answered is unknown in each row."""
        capabilities = known if isinstance(known, IkeCapabilities) else None
        rows = _rows(profile, policy, client, costs, capabilities)
        would = capabilities.chosen if capabilities else None
        should = _best(rows, policy)
        if should is not None and would is not None and would.extra:
            # An additional key exchange that both ends have is never advised away.
            should = replace(should, extra=would.extra)
        reasons = tuple(_reasons(rows, should, would, policy, capabilities))
        obstacles = tuple(_obstacles(rows))
        if capabilities is None:
            return AlgorithmAdvice(rows, would, should, reasons, obstacles)
        extras = {
            "supports message fragmentation (RFC 7383)": capabilities.fragments,
            "supports post-quantum pre-shared keys (RFC 8784)": capabilities.additional_key,
            "behind NAT": capabilities.nat_there,
        }
        answer = Answer(
            capabilities.questions, capabilities.round_trip, tuple(words for words, there in extras.items() if there)
        )
        return AlgorithmAdvice(rows, would, should, reasons, obstacles, answer)


def _rows(
    profile: Profile, policy: Policy, device: Client, costs: Costs, capabilities: IkeCapabilities | None
) -> tuple[AdviceRow, ...]:
    proposals = settings_of(profile).proposals("ike")
    offered = {(one.type, one.number, one.key_bits) for proposal in proposals for one in proposal.all()}
    rows = []
    for entry in ALGORITHMS:
        if entry.type not in (T.ENCR, T.PRF, T.INTEG, T.KE) or (entry.type, entry.number) in _NO_CHOICE:
            continue
        cheapest = min((cost for (kind, _, _), cost in costs.items() if kind == entry.type), default=0.0)
        for bits in tuple(reversed(entry.bits)) or (0,):
            said = opinion(policy, entry.type, entry.number, bits)
            cost = costs.get((entry.type, entry.number, bits))
            rows.append(
                AdviceRow(
                    entry.type,
                    entry.number,
                    bits,
                    (entry.type, entry.number, bits) in offered,
                    capabilities.has(entry.type, entry.number, bits) if capabilities else None,
                    device.knows(entry),
                    entry.ike_status,
                    entry.esp_status,
                    strength(entry.type, entry.number, bits),
                    cost / cheapest if cost and cheapest else None,
                    said.good,
                    said.why,
                    said.source,
                )
            )
    return tuple(rows)


_NO_CHOICE = {(T.INTEG, 0), (T.ENCR, 11)}
"""NONE and NULL."""


def _possible(rows: Sequence[AdviceRow], kind: int) -> list[AdviceRow]:
    """What the device and the gateway can do and the policy allows."""
    return [row for row in rows if row.type == kind and row.device and row.good and row.gateway is not False]


def _best(rows: Sequence[AdviceRow], policy: Policy) -> Suite | None:
    """Combined-mode ciphers first, whole ICVs, 128 bits and more, then the quickest; for the others likewise."""
    wanted = max(GOOD_BITS, policy.strength)

    def order(row: AdviceRow) -> tuple[object, ...]:
        separate = row.type == T.ENCR and row.number not in AEAD_NUMBERS
        short = row.type == T.ENCR and row.number in (14, 15, 18, 19)
        mandated = "MUST" in (row.ike_status + row.esp_status)
        return separate, short, row.bits < wanted, not mandated, _octave(row.cost), -row.bits, not row.offered

    picked = {kind: sorted(_possible(rows, kind), key=order) for kind in (T.ENCR, T.PRF, T.KE, T.INTEG)}
    if not picked[T.ENCR] or not picked[T.PRF] or not picked[T.KE]:
        return None
    cipher = picked[T.ENCR][0]
    combined = cipher.number in AEAD_NUMBERS
    if not combined and not picked[T.INTEG]:
        return None
    integrity = 0 if combined else picked[T.INTEG][0].number
    group = min(
        picked[T.KE],
        key=lambda row: (row.bits < wanted, _octave(row.cost), -row.bits, not row.offered, -row.number),
    )
    return Suite(cipher.number, cipher.key_bits, integrity, picked[T.PRF][0].number, group.number)


def _octave(cost: float | None) -> int:
    """Costs that differ by less than about two are taken as equal: measuring is not that exact."""
    return round(cost).bit_length() if cost else 0


def _instead(by_key: Mapping[tuple[int, int, int], AdviceRow], should: Suite, would: Suite) -> Iterator[Reason]:
    """What would be negotiated instead, and why."""
    for kind, ours, theirs in (
        (T.ENCR, (should.encryption, should.key_bits), (would.encryption, would.key_bits)),
        (T.INTEG, (should.integrity, 0), (would.integrity, 0)),
        (T.PRF, (should.prf, 0), (would.prf, 0)),
        (T.KE, (should.group, 0), (would.group, 0)),
    ):
        row = by_key.get((kind, *theirs))
        if ours != theirs and row is not None:
            words = "offered first, or preferred by the gateway" if row.good else f"not good: {row.why}"
            yield Reason(f"instead it would be {row.name}: {words}", row.source)


def _reasons(
    rows: Sequence[AdviceRow],
    should: Suite | None,
    would: Suite | None,
    policy: Policy,
    capabilities: IkeCapabilities | None,
) -> list[Reason]:
    """Why this and not another."""
    if should is None:
        return [Reason("there is no cipher, PRF and group that both ends know and the policy allows", policy.name)]
    by_key = {(row.type, row.number, row.key_bits): row for row in rows}
    cipher = by_key[T.ENCR, should.encryption, should.key_bits]
    reasons = []
    if should.encryption in AEAD_NUMBERS:
        reasons.append(Reason(f"{cipher.name}: encrypts and protects in one pass", "RFC 8221 §4, RFC 8247 §2.1"))
    else:
        check = by_key[T.INTEG, should.integrity, 0]
        words = f"{cipher.name} with {check.name}: the gateway knows no combined-mode cipher that is allowed"
        reasons.append(Reason(words, "RFC 8221 §5"))
    group = by_key[T.KE, should.group, 0]
    slower = [row for row in _possible(rows, T.KE) if row.cost and group.cost and row.cost > 1.5 * group.cost]
    words = f"{group.name}: {group.bits} bits"
    if slower:
        slowest = max(slower, key=lambda row: row.cost or 0.0)
        ratio = (slowest.cost or 0.0) / (group.cost or 1.0)
        words += f"; {slowest.name} takes {ratio:.0f} times as long on this machine"
    reasons.append(Reason(words, "NIST SP 800-57, measured here" if slower else "NIST SP 800-57"))
    prf = by_key[T.PRF, should.prf, 0]
    reasons.append(Reason(f"{prf.name}: {prf.why}", prf.source))
    if would is not None:
        reasons += _instead(by_key, should, would)
    if capabilities is not None and not capabilities.fragments:
        reasons.append(
            Reason("the gateway cannot take long messages in parts: a certificate may get lost on the way", "RFC 7383")
        )
    return reasons


def _obstacles(rows: Sequence[AdviceRow]) -> list[str]:
    """Why no tunnel of this device would come up at this gateway."""
    obstacles = []
    for kind, words in KINDS_OF_ALGORITHMS:
        mine = [row for row in rows if row.type == kind and row.offered]
        if any(row.device for row in mine) and not any(row.device and row.gateway is not False for row in mine):
            obstacles.append(f"offers no {words} that the gateway knows")
    return obstacles


FACET = IkeAdvice()
