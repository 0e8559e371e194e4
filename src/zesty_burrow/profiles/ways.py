"""By which protocol and transport a gateway is best reached: what it has answered, and which of it to take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from zesty_burrow.core.policy.policy import Policy, judge_suite
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.change_protocol import with_settings_of
from zesty_burrow.protocols import registry
from zesty_burrow.protocols.session import Capabilities

PREFERENCE = (
    ("ikev2", "UDP", "the least overhead and the highest throughput", "docs/performance.md"),
    ("connect-ip", "TCP", "one TCP port 443, which hardly any network blocks; quick for bulk", "docs/performance.md"),
    (
        "connect-ip",
        "UDP",
        "goes on over lossy lines and from another address; slower for bulk",
        "RFC 9221, RFC 9000 §9",
    ),
    (
        "ikev2",
        "TCP",
        "where the gateway speaks no HTTP: as quick, by a port that fewer networks let out",
        "docs/performance.md",
    ),
    ("l2tp-ipsec", "UDP", "set up by IKEv1, which is retired: only where nothing else is answered", "RFC 9395 §3"),
)
"""Protocols and transports, the best first, why, and who says so."""


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
        """Strength."""
        return suite_strength(self.suite) if self.suite else 0

    @property
    def is_usable(self) -> bool:
        """Whether this device could go by it."""
        return self.answered and not self.against and self.known

    @property
    def name(self) -> str:
        """Protocol and transport."""
        return f"{self.protocol} over {self.over}"


def every_way(profile: Profile) -> list[Profile]:
    """A profile's gateway by each protocol and transport; the profile's own port where it names one."""
    found = []
    for name in registry.names():
        one = profile if name == profile.tunnel.protocol else _by(profile, name)
        found += [replace(one, settings=variant) for variant in one.settings.every_transport()]
    return found


def _by(profile: Profile, name: str) -> Profile:
    """For a probe, which signs nobody in: any sign-in will do."""
    method = registry.protocol(name).sign_in_methods[0]
    return replace(with_settings_of(profile, name), sign_in=replace(profile.sign_in, method=method))


def answer_of(way: Profile, found: Capabilities | None, why: str, policy: Policy, known: Sequence[str]) -> WayAnswer:
    """What came of asking by one way. ``known``: the protocols that the device's client speaks."""
    over, port = way.settings.over(), registry.protocol(way.tunnel.protocol).outer_ports(way)[0][1]
    made = WayAnswer(way.tunnel.protocol, over, port, found is not None, against=why)
    made = replace(made, known=not known or way.tunnel.protocol in known)
    if found is None:
        return made
    broken = judge_suite(policy, found.chosen, "") if found.chosen else []
    against = found.against or (broken[0].detail if broken else "")
    return replace(made, seconds=found.round_trip, suite=found.chosen, words=found.words, against=against)


def best_way(ways: Sequence[WayAnswer]) -> tuple[WayAnswer, str, str] | None:
    """The way to take, why, and who says so; None where none is usable."""
    for protocol, over, words, source in PREFERENCE:
        for one in ways:
            if (one.protocol, one.over) == (protocol, over) and one.is_usable:
                return one, words, source
    return next(((one, "the only one that was answered", "") for one in ways if one.is_usable), None)
