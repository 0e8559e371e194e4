"""An organisation's policy: what its tunnels may use. A small TOML file tightens or loosens the default.

The default is what the RFCs say: nothing that RFC 8247 or RFC 8221 advise against, and 112 bits, which is what their
mandatory algorithms give (2048-bit MODP).
"""

from __future__ import annotations

import functools
import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.algorithms import ALGORITHMS, BY_NUMBER, Algorithm, TransformType, describe
from zesty_burrow.core.policy.strength import strength, suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import (
    DEFAULT_ALGORITHMS,
    GATEWAY_PROOFS,
    IPV6_HANDLING,
    SIGN_IN_METHODS,
    AlgorithmChoice,
    Algorithms,
    Profile,
    ProposalChoice,
)
from zesty_burrow.errors import InputError, ProfileInvalid

T = TransformType
FORMAT = 1
MAX_TEXT = 1 << 16
DEFAULT_STRENGTH = 112
_NAMES = {entry.name: entry for entry in ALGORITHMS}


@dataclass(frozen=True, slots=True)
class Policy:
    """``forbidden`` and ``allowed``: IANA names; what is allowed by name is so even where the RFCs advise against it.

    ``strength``: bits that every algorithm and every tunnel must reach. Empty lists of methods and proofs mean all.
    """

    name: str = "the RFCs"
    strength: int = DEFAULT_STRENGTH
    forbidden: frozenset[str] = frozenset()
    allowed: frozenset[str] = frozenset()
    methods: tuple[str, ...] = ()
    proofs: tuple[str, ...] = ()
    ipv6: tuple[str, ...] = ()
    additional_key: bool = False


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
        return Opinion(False, "nobody here knows it", "IANA")
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
    parts = [("in IKEv2", entry.ike_status), ("in ESP", entry.esp_status)]
    return ", ".join(f"{status} {where}" for where, status in parts if status)


def _source(entry: Algorithm) -> str:
    parts = [("RFC 8247", entry.ike_status), ("RFC 8221", entry.esp_status)]
    return ", ".join(name for name, status in parts if status) or "NIST SP 800-57"


def judge_profile(policy: Policy, profile: Profile) -> list[Finding]:
    """Where a profile's own words break the policy. What it leaves to the default is the program's to get right."""
    found: list[Finding] = []
    for label, proposals in (("ike", profile.algorithms.ike), ("esp", profile.algorithms.esp)):
        for choice in dict.fromkeys(one for proposal in proposals for one in proposal.all()):
            said = opinion(policy, choice.type, choice.number, choice.key_bits)
            if not said.good and not choice.weak and choice.number:
                words = f"{choice} in algorithms.{label}: {said.why} ({said.source})"
                found.append(finding("policy-algorithm", profile.name, words))
    method, proof = profile.sign_in.method, profile.sign_in.gateway
    if policy.methods and method not in policy.methods:
        found.append(finding("policy-sign-in", profile.name, f"sign_in.method is {method}"))
    if policy.proofs and proof not in policy.proofs:
        found.append(finding("policy-sign-in", profile.name, f"sign_in.gateway is {proof}"))
    if policy.additional_key and profile.sign_in.additional_key != "required":
        found.append(finding("policy-sign-in", profile.name, "sign_in.additional_key is not required"))
    if policy.ipv6 and profile.traffic.ipv6 not in policy.ipv6:
        found.append(finding("policy-traffic", profile.name, f"traffic.ipv6 is {profile.traffic.ipv6}"))
    return found


def judge_suite(policy: Policy, suite: Suite, where: str) -> list[Finding]:
    """What was really negotiated, by the same policy."""
    found = []
    for kind, number, key_bits in parts_of(suite):
        said = opinion(policy, kind, number, key_bits)
        if not said.good:
            words = f"{describe(kind, number, key_bits)}: {said.why} ({said.source})"
            found.append(finding("policy-negotiated", where, words))
    bits = suite_strength(suite)
    if not found and bits < policy.strength:
        found.append(finding("policy-negotiated", where, f"{bits} bits at its weakest part"))
    return found


def parts_of(suite: Suite) -> list[tuple[int, int, int]]:
    """The algorithms of a suite as type, number and key bits; those that it has none of are left out."""
    rows = [(T.ENCR, suite.encryption, suite.key_bits)]
    rows += [(T.INTEG, suite.integrity, 0)] if suite.integrity else []
    rows += [(T.PRF, suite.prf, 0)] if suite.prf else []
    rows += [(T.KE, suite.group, 0)] if suite.group else []
    rows += [(T.ADDKE1, suite.extra, 0)] if suite.extra else []
    return [(int(kind), number, bits) for kind, number, bits in rows]


def allowed_choices(policy: Policy, choices: Iterable[AlgorithmChoice]) -> tuple[AlgorithmChoice, ...]:
    """Those that the policy lets through, in their order."""
    return tuple(one for one in choices if opinion(policy, one.type, one.number, one.key_bits).good)


# The file.

_SECTIONS: Mapping[str, Mapping[str, type]] = {
    "policy": {"name": str, "strength": int},
    "algorithms": {"forbidden": list, "allowed": list},
    "sign_in": {"methods": list, "gateway": list, "additional_key": bool},
    "traffic": {"ipv6": list},
}
_WORDS: Mapping[tuple[str, str], tuple[str, ...]] = {
    ("algorithms", "forbidden"): tuple(_NAMES),
    ("algorithms", "allowed"): tuple(_NAMES),
    ("sign_in", "methods"): SIGN_IN_METHODS,
    ("sign_in", "gateway"): GATEWAY_PROOFS,
    ("traffic", "ipv6"): IPV6_HANDLING,
}


def read_policy(text: str, origin: str) -> Policy:
    """A policy from its text; :class:`InputError` names the key that is wrong."""

    def wrong(key: str, why: str) -> InputError:
        return InputError(f"{origin}: {key}", why=why, next_step="Correct the key; docs/choosing.md lists them all.")

    try:
        document = tomllib.loads(text[: MAX_TEXT + 1]) if len(text) <= MAX_TEXT else {}
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as problem:
        raise wrong("the file", f"it is not TOML: {problem}") from None
    if document.pop("format", None) != FORMAT:
        raise wrong("format", f"format = {FORMAT} is wanted")
    values: dict[tuple[str, str], Any] = {}
    for section, table in document.items():
        if section not in _SECTIONS or not isinstance(table, dict):
            raise wrong(section, f"the sections are {', '.join(_SECTIONS)}")
        for key, value in table.items():
            kind = _SECTIONS[section].get(key)
            if kind is None:
                raise wrong(f"{section}.{key}", f"the keys are {', '.join(_SECTIONS[section])}")
            if not isinstance(value, kind) or (kind is int and isinstance(value, bool)):
                raise wrong(f"{section}.{key}", "it is of the wrong type")
            words = _WORDS.get((section, key), ())
            bad = [one for one in value if one not in words] if isinstance(value, list) else []
            if bad:
                raise wrong(f"{section}.{key}", f"{bad[0]!r:.60} is not one of {', '.join(words)}")
            values[section, key] = value
    bits = values.get(("policy", "strength"), DEFAULT_STRENGTH)
    if not 0 <= bits <= 256:
        raise wrong("policy.strength", f"{bits} is not between 0 and 256")
    return Policy(
        name=values.get(("policy", "name"), origin),
        strength=bits,
        forbidden=frozenset(values.get(("algorithms", "forbidden"), ())),
        allowed=frozenset(values.get(("algorithms", "allowed"), ())),
        methods=tuple(values.get(("sign_in", "methods"), ())),
        proofs=tuple(values.get(("sign_in", "gateway"), ())),
        ipv6=tuple(values.get(("traffic", "ipv6"), ())),
        additional_key=values.get(("sign_in", "additional_key"), False),
    )


def restrict(policy: Policy, profile: Profile) -> Profile:
    """The profile with nothing in its offers that the policy forbids; :class:`ProfileInvalid` where nothing is left.

    A gateway can choose only from what is offered: so it cannot choose anything weaker than the policy. A profile that
    signs in, or carries traffic, in a way that the policy forbids is refused as a whole.
    """
    barred = [entry for entry in judge_profile(policy, profile) if entry.code.slug != "policy-algorithm"]
    if barred:
        raise ProfileInvalid(
            f"the policy ({policy.name}) does not allow profile {profile.name}",
            why="; ".join(entry.detail for entry in barred),
            next_step=barred[0].code.remedy,
            slug=barred[0].code.slug,
        )
    own, default = profile.algorithms, DEFAULT_ALGORITHMS
    kept = {}
    for label, proposals in (("ike", own.ike or default.ike), ("esp", own.esp or default.esp)):
        rows = [restricted for one in proposals if (restricted := _restricted(policy, one, label == "ike"))]
        if not rows:
            raise ProfileInvalid(
                f"profile {profile.name}: the policy leaves nothing to offer in algorithms.{label}",
                why=f"the policy ({policy.name}) forbids some part of each of its proposals",
                next_step="Change the profile with `zesty choose`, or let the policy allow what is needed.",
                slug="policy-algorithm",
            )
        kept[label] = tuple(rows)
    return replace(profile, algorithms=Algorithms(kept["ike"], kept["esp"]))


@functools.lru_cache(maxsize=256)
def _restricted(policy: Policy, proposal: ProposalChoice, for_ike: bool) -> ProposalChoice | None:
    made = ProposalChoice(
        allowed_choices(policy, proposal.encryption),
        allowed_choices(policy, proposal.integrity),
        allowed_choices(policy, proposal.prf),
        allowed_choices(policy, proposal.key_exchange),
        allowed_choices(policy, proposal.additional_key_exchange),
        allowed_choices(policy, proposal.sequence_numbers),
    )
    return made if made.offer(for_ike=for_ike) is not None else None
