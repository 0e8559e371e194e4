"""IKEv2 as the registry offers it."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.protocols.session import Probe, Random, Session, SessionRequest


class IkeV2:
    """IKEv2 and ESP in UDP."""

    name = "ikev2"
    title = "IKEv2, ESP in UDP"

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """An initiator for a profile."""
        from zesty_burrow.protocols.ikev2.from_profile import initiator_config
        from zesty_burrow.protocols.ikev2.session import IkeSession

        return IkeSession(initiator_config(profile, request), random, profile.credentials_label)

    def probe(self, profile: Profile, address: str, patience: float, random: Random) -> Probe:
        """IKE_SA_INIT requests, with the profile's own offers first."""
        from zesty_burrow.core.profile import offers_of
        from zesty_burrow.protocols.ikev2 import probe
        from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff

        offers, _ = offers_of(profile)
        return probe.Probe((address, profile.gateway.port), offers, random, Backoff(give_up=patience))


PROTOCOL = IkeV2()
