"""What can be said of a profile by reading it."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache

from zesty_burrow.core.certificates import trust
from zesty_burrow.core.certificates.revocation import age_problem, load_revocation_list_untrusted
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.profile import PEM_MARK, Profile
from zesty_burrow.errors import Malformed


def check_profile(profile: Profile, now: datetime) -> list[Finding]:
    """Findings about algorithms, trust, IPv6 and unknown keys. ``now`` has a time zone."""
    found = [
        finding("profile-unknown-key", profile.name, f"{label}.{key}" if label else key)
        for label, values in profile.unknown.items()
        for key in values
    ]
    found += profile.settings.check(profile.name)
    if profile.traffic.ipv6 == "outside" and any(one.prefixlen == 0 for one in profile.traffic.networks):
        found.append(finding("ipv6-outside", profile.name))
    return found + _check_trust(profile, now) + _check_lists(profile, now)


def revocation_list_ages(profile: Profile, now: datetime) -> list[str]:
    """Of each revocation list of a profile: from when it is, and when the next one is due, or was."""
    ages = []
    for pem in profile.revocation_lists:
        try:
            entry = load_revocation_list_untrusted(pem.encode())
        except Malformed as problem:
            ages.append(str(problem))
            continue
        days = max((now - entry.last_update_utc).days, 0)
        due = entry.next_update_utc
        until = f"next due {due:%Y-%m-%d}" if due else "no date for the next"
        old = ", OUT OF DATE" if age_problem(entry, now) else ""
        ages.append(f"of {entry.last_update_utc:%Y-%m-%d} ({days} days old), {until}{old}; {len(entry)} revoked")
    return ages


def _check_lists(profile: Profile, now: datetime) -> list[Finding]:
    found = []
    for pem in profile.revocation_lists:
        try:
            entry = load_revocation_list_untrusted(pem.encode())
        except Malformed as problem:
            found.append(finding("revocation-list-unusable", profile.name, str(problem)))
            continue
        if problem_of_age := age_problem(entry, now):
            found.append(finding("revocation-list-old", entry.issuer.rfc4514_string(), problem_of_age))
    return found


def _check_trust(profile: Profile, now: datetime) -> list[Finding]:
    found: list[Finding] = []
    if not profile.authorities and profile.sign_in.gateway in ("certificate", "eap"):
        found.append(finding("profile-authority-missing", profile.name, "none is named"))
    for entry in profile.authorities:
        if PEM_MARK not in entry:
            found.append(finding("profile-authority-missing", profile.name, entry))
            continue
        try:
            found += _authority_findings(entry, now)
        except Malformed as problem:
            found.append(finding("profile-authority-missing", profile.name, str(problem)))
    return found


@lru_cache(maxsize=64)
def _authority_findings(pem: str, now: datetime) -> tuple[Finding, ...]:
    """A provider's hundreds of profiles share one authority; judging it once is enough."""
    found: list[Finding] = []
    for certificate in trust.load_pem_certificates_untrusted(pem.encode()):
        found += trust.date_findings(certificate, now)
        found += trust.strength_findings(certificate, anchor=True)
        if not trust.is_authority(certificate):
            found.append(finding("profile-authority-leaf", trust.subject_name(certificate)))
    return tuple(found)
