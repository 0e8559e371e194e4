"""What there is to know of the certificates and revocation lists in a profile, as plain values that a store can keep.

Reading them takes longer than all the rest of showing a profile; what they say does not change.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from typing import Any

from zesty_burrow.core.certificates.validity import list_age_problem, validity_findings
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.profile import PEM_MARK, Profile

Facts = Mapping[str, Any]
FactsOf = Callable[[str], Facts]
"""The facts of a PEM text."""

MANY = 20
"""Authorities of one profile: a provider has a few; a system's public ones are well over a hundred."""


def read_facts(pem: str) -> Facts:
    """The facts of an authority's certificates or of a revocation list, read now."""
    from zesty_burrow.profiles.trust_reader import read

    return read(pem)


def trust_findings(profile: Profile, now: datetime, facts_of: FactsOf) -> list[Finding]:
    """What there is to say of a profile's authorities and revocation lists today."""
    findings: list[Finding] = []
    if not profile.authorities and profile.sign_in.gateway in ("certificate", "eap"):
        findings.append(finding("profile-authority-missing", profile.name, "none is named"))
    number = sum(entry.count(PEM_MARK) for entry in profile.authorities)
    if number > MANY:
        findings.append(finding("profile-authorities-many", profile.name, f"{number} authorities"))
    for entry in profile.authorities:
        if PEM_MARK not in entry:
            findings.append(finding("profile-authority-missing", profile.name, entry))
            continue
        facts = facts_of(entry)
        if "malformed" in facts:
            findings.append(finding("profile-authority-missing", profile.name, facts["malformed"]))
        for one in facts.get("certificates", ()):
            begins, ends = datetime.fromisoformat(one["begins"]), datetime.fromisoformat(one["ends"])
            findings += validity_findings(one["subject"], begins, ends, now)
            if number > MANY:
                # One old signature matters little among so many; the finding above says what does.
                continue
            findings += [finding(slug, one["subject"], detail) for slug, detail in one["findings"]]
    for pem in profile.revocation_lists:
        facts = facts_of(pem)
        if "malformed" in facts:
            findings.append(finding("revocation-list-unusable", profile.name, facts["malformed"]))
        elif problem := _age_problem(facts, now):
            findings.append(finding("revocation-list-old", facts["issuer"], problem))
    return findings


def revocation_list_ages(profile: Profile, now: datetime, facts_of: FactsOf) -> list[str]:
    """Of each revocation list of a profile: from when it is, and when the next one is due, or was."""
    ages = []
    for facts in map(facts_of, profile.revocation_lists):
        if "malformed" in facts:
            ages.append(str(facts["malformed"]))
            continue
        since = datetime.fromisoformat(facts["since"])
        until = f"next due {facts['due'][:10]}" if facts["due"] else "no date for the next"
        old = ", OUT OF DATE" if _age_problem(facts, now) else ""
        days = max((now - since).days, 0)
        ages.append(f"of {since:%Y-%m-%d} ({days} days old), {until}{old}; {facts['revoked']} revoked")
    return ages


def _age_problem(facts: Facts, now: datetime) -> str:
    due = datetime.fromisoformat(facts["due"]) if facts["due"] else None
    return list_age_problem(datetime.fromisoformat(facts["since"]), due, now)
