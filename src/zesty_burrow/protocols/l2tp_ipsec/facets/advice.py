"""Advice about L2TP/IPsec."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.advice import AlgorithmAdvice, Costs, Preference
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.session import Capabilities


class L2tpAdvice:
    """What IKEv1 agreed on is judged."""

    source = "RFC 9395, RFC 8247, RFC 8221"
    preferences = (
        Preference(90, "UDP", "set up by IKEv1, which is retired: only where nothing else is answered", "RFC 9395 §3"),
    )

    def advise(
        self, profile: Profile, policy: Policy, client: Client, costs: Costs, known: Capabilities | None
    ) -> AlgorithmAdvice | None:
        """None."""
        return None


FACET = L2tpAdvice()
