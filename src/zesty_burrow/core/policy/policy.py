"""An organisation's policy: what its tunnels may use.

The default is what the RFCs say: nothing that RFC 8247 or RFC 8221 advise against, and 112 bits, which is what their
mandatory algorithms give (2048-bit MODP).
"""

from __future__ import annotations

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.algorithms import BY_NUMBER, Algorithm, TransformType, describe
from zesty_burrow.core.policy.strength import strength, suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.records import dataclass

T = TransformType
DEFAULT_STRENGTH = 112


@dataclass(frozen=True, slots=True)
class Policy:
    """``forbidden`` and ``allowed``: IANA names; what is allowed by name is so even where the RFCs advise against it.

    ``strength``: bits that every algorithm and every tunnel must reach. Empty lists of methods and proofs mean all.
    ``revocation_status``: it has to be known that a gateway's certificate was not revoked.
    """

    name: str = "the RFCs"
    strength: int = DEFAULT_STRENGTH
    forbidden: frozenset[str] = frozenset()
    allowed: frozenset[str] = frozenset()
    methods: tuple[str, ...] = ()
    proofs: tuple[str, ...] = ()
    ipv6: tuple[str, ...] = ()
    additional_key: bool = False
    revocation_status: bool = False


DEFAULT = Policy()


@dataclass(frozen=True, slots=True)
class Opinion:
    """Whether an algorithm may be used, why, and who says so."""

    good: bool
    why: str
    source: str


def opinion(policy: Policy, kind: int, number: int, key_bits: int = 0) -> Opinion:
    """What a policy says of one algorithm; the organisation's own word comes before the RFCs'."""
    entry = BY_NUMBER.get((TransformType(kind), number)) if kind in TransformType._value2member_map_ else None
    if entry is None:
        return Opinion(False, "this program does not know it", "IANA")
    if entry.name in policy.forbidden:
        return Opinion(False, "the policy forbids it", policy.name)
    bits = strength(kind, number, key_bits)
    named = entry.name in policy.allowed
    if entry.weak and not named:
        return Opinion(False, _status_words(entry), _source(entry))
    if kind in (T.ENCR, T.PRF, T.KE) and bits < policy.strength and not named:
        return Opinion(False, f"{bits} bits are fewer than {policy.strength}", policy.name)
    if named:
        return Opinion(True, "the policy allows it", policy.name)
    return Opinion(True, _status_words(entry) or f"{bits} bits", _source(entry))


def _status_words(entry: Algorithm) -> str:
    parts = [("in IKE", entry.ike_status), ("in ESP", entry.esp_status)]
    return ", ".join(f"{status} {where}" for where, status in parts if status)


def _source(entry: Algorithm) -> str:
    parts = [("RFC 8247", entry.ike_status), ("RFC 8221", entry.esp_status)]
    return ", ".join(name for name, status in parts if status) or "NIST SP 800-57"


def judge_suite(policy: Policy, suite: Suite, where: str) -> list[Finding]:
    """What was really negotiated, by the same policy."""
    findings = []
    for kind, number, key_bits in parts_of(suite):
        said = opinion(policy, kind, number, key_bits)
        if not said.good:
            words = f"{describe(kind, number, key_bits)}: {said.why} ({said.source})"
            findings.append(finding("policy-negotiated", where, words))
    bits = suite_strength(suite)
    if not findings and bits < policy.strength:
        findings.append(finding("policy-negotiated", where, f"{bits} bits for its weakest algorithm"))
    return findings


def parts_of(suite: Suite) -> list[tuple[int, int, int]]:
    """The algorithms of a suite as type, number and key bits; those that it has none of are left out."""
    rows = [(T.ENCR, suite.encryption, suite.key_bits)]
    rows += [(T.INTEG, suite.integrity, 0)] if suite.integrity else []
    rows += [(T.PRF, suite.prf, 0)] if suite.prf else []
    rows += [(T.KE, suite.group, 0)] if suite.group else []
    rows += [(T.ADDKE1, suite.extra, 0)] if suite.extra else []
    return [(int(kind), number, bits) for kind, number, bits in rows]
