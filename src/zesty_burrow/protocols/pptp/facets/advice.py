"""Advice about PPTP."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.advice import AlgorithmAdvice, Costs, Preference
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.session import Capabilities


class PptpAdvice:
    """There is nothing to choose."""

    source = ""
    preferences: tuple[Preference, ...] = ()

    def advise(
        self, profile: Profile, policy: Policy, client: Client, costs: Costs, known: Capabilities | None
    ) -> AlgorithmAdvice | None:
        """None."""
        return None


FACET = PptpAdvice()
