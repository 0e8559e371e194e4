"""By which protocol and transport a gateway is best reached: what it has answered, and which of it to take."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.policy.policy import Policy, judge_suite
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.change_protocol import with_settings_of
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.parts import advice_of
from zesty_burrow.protocols.session import Capabilities
from zesty_burrow.records import dataclass, replace


@dataclass(frozen=True, slots=True)
class WayAnswer:
    """``answered``: whether anything came; ``against``: why no tunnel would come of it; ``known``: to the device."""

    protocol: str
    over: str
    port: int
    answered: bool
    seconds: float = 0.0
    suite: Suite | None = None
    words: str = ""
    against: str = ""
    known: bool = True

    @property
    def bits(self) -> int:
        return suite_strength(self.suite) if self.suite else 0

    @property
    def is_usable(self) -> bool:
        """Whether this device could go by it."""
        return self.answered and not self.against and self.known

    @property
    def name(self) -> str:
        return f"{self.protocol} over {self.over}"


def every_way(profile: Profile) -> list[Profile]:
    """A profile's gateway by each protocol and transport; the profile's own port where it names one."""
    profiles = []
    for name in registry.names():
        one = profile if name == profile.tunnel.protocol else _by(profile, name)
        profiles += [replace(one, settings=variant) for variant in one.settings.every_transport()]
    return profiles


def _by(profile: Profile, name: str) -> Profile:
    """For a probe, which signs nobody in: any sign-in will do."""
    method = registry.protocol(name).sign_in_methods[0]
    return replace(with_settings_of(profile, name), sign_in=replace(profile.sign_in, method=method))


def answer_of(
    way: Profile, capabilities: Capabilities | None, why: str, policy: Policy, known: Sequence[str]
) -> WayAnswer:
    """What came of asking by one way. ``known``: the protocols that the device's client speaks."""
    over, port = way.settings.over(), registry.protocol(way.tunnel.protocol).outer_ports(way)[0][1]
    made = WayAnswer(way.tunnel.protocol, over, port, capabilities is not None, against=why)
    made = replace(made, known=not known or way.tunnel.protocol in known)
    if capabilities is None:
        return made
    broken = judge_suite(policy, capabilities.chosen, "") if capabilities.chosen else []
    against = capabilities.against or (broken[0].detail if broken else "")
    return replace(
        made, seconds=capabilities.round_trip, suite=capabilities.chosen, words=capabilities.words, against=against
    )


def best_way(ways: Sequence[WayAnswer]) -> tuple[WayAnswer, str, str] | None:
    """The way to take, why, and who says so; None where none is usable."""
    preferred = {(name, entry.over): entry for name in registry.names() for entry in advice_of(name).preferences}
    usable = [way for way in ways if way.is_usable and (way.protocol, way.over) in preferred]
    if usable:
        best = min(usable, key=lambda one: preferred[one.protocol, one.over].rank)
        entry = preferred[best.protocol, best.over]
        return best, entry.why, entry.source
    return next(((way, "the only one that was answered", "") for way in ways if way.is_usable), None)
