"""What can be said of a profile by reading it."""

from __future__ import annotations

from datetime import datetime

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.host_names import look_alike
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.trust_facts import FactsOf, read_facts, trust_findings


def check_profile(profile: Profile, now: datetime, facts_of: FactsOf = read_facts) -> list[Finding]:
    """Findings about algorithms, trust, IPv6 and unknown keys. ``now`` has a time zone."""
    found = [
        finding("profile-unknown-key", profile.name, f"{label}.{key}" if label else key)
        for label, values in profile.unknown.items()
        for key in values
    ]
    for host in (*profile.gateway.addresses, profile.gateway_identity.value):
        if not host.isascii() and (words := look_alike(host)):
            found.append(finding("host-look-alike", profile.name, words))
    found += profile.settings.check(profile.name)
    if profile.traffic.ipv6 == "outside" and any(network.prefixlen == 0 for network in profile.traffic.networks):
        found.append(finding("ipv6-outside", profile.name))
    if profile.lacks_name_servers:
        found.append(finding("name-servers-missing", profile.name))
    if profile.traffic.behind and not profile.settings.tells_routes:
        found.append(finding("networks-not-told", profile.name, ", ".join(map(str, profile.traffic.behind))))
    if profile.proxy is not None and profile.proxy.sign_in:
        found.append(finding("proxy-password-clear", profile.name, str(profile.proxy)))
    return found + trust_findings(profile, now, facts_of)
