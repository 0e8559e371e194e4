"""What each end can do, what would come of it, what should be taken, and why, with the source of each reason."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.algorithms import AEAD_NUMBERS, ALGORITHMS, TransformType, describe
from zesty_burrow.core.policy.policy import Policy, judge_suite, opinion
from zesty_burrow.core.policy.strength import strength, suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.advising.clients import KINDS_OF_ALGORITHMS, Client, misfits
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.protocols.ikev2.probe import IkeCapabilities
from zesty_burrow.protocols.ikev2.settings import NAME as IKE
from zesty_burrow.protocols.ikev2.settings import settings_of
from zesty_burrow.protocols.session import Capabilities

T = TransformType
GOOD_BITS = 128
"""What is aimed at where there is a choice: the level of today's mandatory curves and ciphers (NIST SP 800-57)."""
Costs = Mapping[tuple[int, int, int], float]
"""Seconds by type, number and key bits: of a packet for ciphers and ICVs, of an agreement for groups."""


SOURCES = {"connect-ip": "RFC 8446, RFC 9325", "l2tp-ipsec": "RFC 9395, RFC 8247, RFC 8221"}
"""Of advice about what was agreed on."""


@dataclass(frozen=True, slots=True)
class Row:
    """One algorithm: who can do it, what the RFCs and the policy say, its strength and relative cost (1: the least)."""

    type: int
    number: int
    key_bits: int
    offered: bool
    gateway: bool | None
    device: bool
    ike_status: str
    esp_status: str
    bits: int
    cost: float | None
    good: bool
    why: str
    source: str

    @property
    def name(self) -> str:
        """IANA's name, with the key length."""
        return describe(self.type, self.number, self.key_bits)


@dataclass(frozen=True, slots=True)
class Reason:
    """Why, and who says so."""

    words: str
    source: str


@dataclass(frozen=True, slots=True)
class Advice:
    """For one profile at one gateway on one kind of device. ``would``: what the gateway chose of the profile's offers.

    ``should``: the best that both ends and the policy allow; None where there is nothing. ``answered``: whether the
    gateway was asked and answered.
    """

    profile: str
    place: str
    gateway: str
    device: str
    asked: bool
    answered: bool
    rows: tuple[Row, ...]
    would: Suite | None
    should: Suite | None
    reasons: tuple[Reason, ...]
    obstacles: tuple[str, ...]
    findings: tuple[Finding, ...]
    capabilities: IkeCapabilities | None = None

    @property
    def would_bits(self) -> int:
        """Strength of what would be negotiated."""
        return suite_strength(self.would) if self.would else 0

    @property
    def should_bits(self) -> int:
        """Strength of what should be."""
        return suite_strength(self.should) if self.should else 0


def advise(
    profile: Profile,
    policy: Policy,
    device: Client,
    costs: Costs,
    known: Capabilities | None,
    *,
    asked: bool,
    gateway: str,
) -> Advice:
    """Everything that can be said. ``known`` is None where the gateway was not asked or did not answer."""
    if profile.tunnel.protocol != IKE:
        return _judge_agreed(profile, policy, device, known, asked=asked, gateway=gateway)
    capabilities = known if isinstance(known, IkeCapabilities) else None
    rows = _rows(profile, policy, device, costs, capabilities)
    would = capabilities.chosen if capabilities else None
    should = _best(rows, policy)
    if should is not None and would is not None and would.extra:
        # An additional key exchange that both ends have is never advised away.
        should = replace(should, extra=would.extra)
    obstacles = tuple(_obstacles(profile, device, rows))
    found = judge_profile(policy, profile)
    if would is not None:
        found += judge_suite(policy, would, profile.name)
    weak = [row.name for row in rows if row.gateway and ("NOT" in row.ike_status or "NOT" in row.esp_status)]
    if weak:
        found.append(finding("gateway-takes-weak", gateway, ", ".join(weak)))
    return Advice(
        profile.name,
        profile.place,
        gateway,
        device.kind,
        asked,
        capabilities is not None,
        rows,
        would,
        should,
        tuple(_reasons(rows, should, would, policy, capabilities)),
        obstacles,
        tuple(found),
        capabilities,
    )


def _judge_agreed(
    profile: Profile, policy: Policy, device: Client, known: Capabilities | None, *, asked: bool, gateway: str
) -> Advice:
    """TLS 1.3 and IKEv1 leave little to choose: what was agreed on is held against the policy."""
    would = known.chosen if known else None
    found = judge_profile(policy, profile) + (judge_suite(policy, would, profile.name) if would else [])
    obstacles = [known.against] if known and known.against else []
    obstacles += misfits(profile, device)
    source = SOURCES.get(profile.tunnel.protocol, "")
    reasons = (Reason(known.words, source),) if known and known.words else ()
    should = would if not any(entry.code.slug == "policy-negotiated" for entry in found) else None
    answer = asked, known is not None, (), would, should, reasons, tuple(obstacles), tuple(found)
    return Advice(profile.name, profile.place, gateway, device.kind, *answer)


def _rows(
    profile: Profile, policy: Policy, device: Client, costs: Costs, capabilities: IkeCapabilities | None
) -> tuple[Row, ...]:
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
                Row(
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


def _possible(rows: Sequence[Row], kind: int) -> list[Row]:
    """What the device and the gateway can do and the policy allows."""
    return [row for row in rows if row.type == kind and row.device and row.good and row.gateway is not False]


def _best(rows: Sequence[Row], policy: Policy) -> Suite | None:
    """Combined-mode ciphers first, whole ICVs, 128 bits and more, then the quickest; for the others likewise."""
    wanted = max(GOOD_BITS, policy.strength)

    def order(row: Row) -> tuple[object, ...]:
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


def _reasons(
    rows: Sequence[Row], should: Suite | None, would: Suite | None, policy: Policy, capabilities: IkeCapabilities | None
) -> list[Reason]:
    """Why this and not another."""
    if should is None:
        return [Reason("there is no cipher, PRF and group that both ends know and the policy allows", policy.name)]
    by_key = {(row.type, row.number, row.key_bits): row for row in rows}
    cipher = by_key[T.ENCR, should.encryption, should.key_bits]
    found = []
    if should.encryption in AEAD_NUMBERS:
        found.append(Reason(f"{cipher.name}: encrypts and protects in one pass", "RFC 8221 §4, RFC 8247 §2.1"))
    else:
        check = by_key[T.INTEG, should.integrity, 0]
        words = f"{cipher.name} with {check.name}: the gateway knows no combined-mode cipher that is allowed"
        found.append(Reason(words, "RFC 8221 §5"))
    group = by_key[T.KE, should.group, 0]
    slower = [row for row in _possible(rows, T.KE) if row.cost and group.cost and row.cost > 1.5 * group.cost]
    words = f"{group.name}: {group.bits} bits"
    if slower:
        slowest = max(slower, key=lambda row: row.cost or 0.0)
        ratio = (slowest.cost or 0.0) / (group.cost or 1.0)
        words += f"; {slowest.name} takes {ratio:.0f} times as long on this machine"
    found.append(Reason(words, "NIST SP 800-57, measured here" if slower else "NIST SP 800-57"))
    prf = by_key[T.PRF, should.prf, 0]
    found.append(Reason(f"{prf.name}: {prf.why}", prf.source))
    if would is not None and would != should:
        for kind, ours, theirs in (
            (T.ENCR, (should.encryption, should.key_bits), (would.encryption, would.key_bits)),
            (T.INTEG, (should.integrity, 0), (would.integrity, 0)),
            (T.PRF, (should.prf, 0), (would.prf, 0)),
            (T.KE, (should.group, 0), (would.group, 0)),
        ):
            row = by_key.get((kind, *theirs))
            if ours != theirs and row is not None:
                words = "offered first, or preferred by the gateway" if row.good else f"not good: {row.why}"
                found.append(Reason(f"instead it would be {row.name}: {words}", row.source))
    if capabilities is not None and not capabilities.fragments:
        found.append(
            Reason("the gateway cannot take long messages in parts: a certificate may get lost on the way", "RFC 7383")
        )
    return found


def _obstacles(profile: Profile, device: Client, rows: Sequence[Row]) -> list[str]:
    """Why a profile cannot go to a kind of device as it is, or to this gateway."""
    found = misfits(profile, device)
    for kind, words in KINDS_OF_ALGORITHMS:
        mine = [row for row in rows if row.type == kind and row.offered]
        if any(row.device for row in mine) and not any(row.device and row.gateway is not False for row in mine):
            found.append(f"offers no {words} that the gateway knows")
    return found
