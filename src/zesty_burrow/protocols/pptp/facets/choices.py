"""What ``zesty choose`` can set of PPTP: nothing. Port, cipher and sign-in are fixed (RFC 2637, RFC 3078)."""

from __future__ import annotations

from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.choices import ChoiceOption, Choices
from zesty_burrow.protocols.pptp.settings import PptpSettings, settings_of


class PptpChoices:
    options: tuple[ChoiceOption, ...] = ()
    takes_suite = False

    def apply(self, profile: Profile, choices: Choices, policy: Policy) -> PptpSettings:
        """The settings as they are."""
        return settings_of(profile)

    def summary(self, profile: Profile) -> list[str]:
        return [value for _, value in settings_of(profile).rows()]


FACET = PptpChoices()
