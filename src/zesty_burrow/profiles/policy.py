"""An organisation's policy as a small TOML file, and profiles judged by it."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.algorithms import ALGORITHMS
from zesty_burrow.core.policy.policy import DEFAULT_STRENGTH, Policy
from zesty_burrow.core.profile import IPV6_HANDLING, Profile
from zesty_burrow.errors import InputError, ProfileInvalid
from zesty_burrow.protocols import registry
from zesty_burrow.records import replace

FORMAT = 1
MAX_TEXT = 1 << 16
_NAMES = tuple(entry.name for entry in ALGORITHMS)


def judge_profile(policy: Policy, profile: Profile) -> list[Finding]:
    """Where a profile's own words break the policy. What it leaves to the defaults is the program's to get right."""
    findings = profile.settings.judge(policy, profile.name)
    method, proof = profile.sign_in.method, profile.sign_in.gateway
    if policy.methods and method not in policy.methods:
        findings.append(finding("policy-sign-in", profile.name, f"sign_in.method is {method}"))
    if policy.proofs and proof not in policy.proofs:
        findings.append(finding("policy-sign-in", profile.name, f"sign_in.gateway is {proof}"))
    if policy.ipv6 and profile.traffic.ipv6 not in policy.ipv6:
        findings.append(finding("policy-traffic", profile.name, f"traffic.ipv6 is {profile.traffic.ipv6}"))
    return findings


def restrict(policy: Policy, profile: Profile, *, unprotected: bool = False) -> Profile:
    """The profile with nothing in its offers that the policy forbids; :class:`ProfileInvalid` where nothing is left.

    A profile that signs in, or carries traffic, in a way that the policy forbids is refused as a whole; and one whose
    protocol protects next to nothing, unless the user has said (``unprotected``) that this is meant.
    """
    if (code := registry.protocol(profile.tunnel.protocol).unprotected_code) and not unprotected:
        raise ProfileInvalid(
            f"profile {profile.name} goes over {profile.tunnel.protocol}, which protects next to nothing",
            why="anybody who records the sign-in can compute the password from it, and read and change everything",
            next_step="Ask for another protocol (zesty advise); or pass --unprotected this time.",
            slug=code,
        )
    barred = [entry for entry in judge_profile(policy, profile) if entry.code.slug != "policy-algorithm"]
    if barred:
        raise ProfileInvalid(
            f"the policy ({policy.name}) does not allow profile {profile.name}",
            why="; ".join(entry.detail for entry in barred),
            next_step=barred[0].code.remedy,
            slug=barred[0].code.slug,
        )
    status = "required" if policy.revocation_status else profile.revocation_status
    settings = profile.settings.restrict(policy, profile.name)
    return replace(profile, settings=settings, revocation_status=status)


# The file.

_SECTIONS: Mapping[str, Mapping[str, type]] = {
    "policy": {"name": str, "strength": int},
    "algorithms": {"forbidden": list, "allowed": list},
    "sign_in": {"methods": list, "gateway": list, "additional_key": bool, "revocation_status": bool},
    "traffic": {"ipv6": list},
}
_WORDS: Mapping[tuple[str, str], tuple[str, ...]] = {
    ("algorithms", "forbidden"): _NAMES,
    ("algorithms", "allowed"): _NAMES,
    ("traffic", "ipv6"): IPV6_HANDLING,
}


def _words(section: str, key: str) -> tuple[str, ...]:
    """What a list may hold; of sign-ins: what any protocol knows."""
    if section != "sign_in":
        return _WORDS.get((section, key), ())
    known = map(registry.protocol, registry.names())
    words = [word for one in known for word in (one.sign_in_methods if key == "methods" else one.gateway_proofs)]
    return tuple(dict.fromkeys(words))


def read_policy(text: str, origin: str) -> Policy:
    """A policy from its text; :class:`InputError` names the key that is wrong."""

    def wrong(key: str, why: str) -> InputError:
        return InputError(f"{origin}: {key}", why=why, next_step="Correct the key; docs/choosing.md lists them all.")

    try:
        document = tomllib.loads(text[: MAX_TEXT + 1]) if len(text) <= MAX_TEXT else {}
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as problem:
        raise wrong("the file", f"it is not TOML: {problem}") from None
    if document.pop("format", None) != FORMAT:
        raise wrong("format", f"format = {FORMAT} is needed")
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
            words = _words(section, key)
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
        revocation_status=values.get(("sign_in", "revocation_status"), False),
    )
