"""What can be said of a profile by reading it."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache

from zesty_burrow.core.certificates import trust
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
    return found + _check_trust(profile, now)


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
