"""Advice about CONNECT-IP."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.advice import AlgorithmAdvice, Costs, Preference
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.session import Capabilities


class ConnectIpAdvice:
    """TLS 1.3 leaves little to choose: what was agreed on is judged."""

    source = "RFC 8446, RFC 9325"
    preferences = (
        Preference(
            20, "TCP", "one TCP port 443, which hardly any network blocks; quick for bulk", "docs/performance.md"
        ),
        Preference(
            30, "UDP", "goes on over lossy lines and from another address; slower for bulk", "RFC 9221, RFC 9000 §9"
        ),
    )

    def advise(
        self, profile: Profile, policy: Policy, client: Client, costs: Costs, known: Capabilities | None
    ) -> AlgorithmAdvice | None:
        """None."""
        return None


FACET = ConnectIpAdvice()
