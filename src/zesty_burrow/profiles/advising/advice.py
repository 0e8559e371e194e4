"""What each end can do, what would come of it, what should be taken, and why, with the source of each reason."""

from __future__ import annotations

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.policy.policy import Policy, judge_suite
from zesty_burrow.core.policy.strength import suite_strength
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.profiles.advising.clients import misfits
from zesty_burrow.profiles.policy import judge_profile
from zesty_burrow.protocols.facets.advice import AdviceRow, AlgorithmAdvice, Answer, Costs, Reason
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.parts import advice_of
from zesty_burrow.protocols.session import Capabilities
from zesty_burrow.records import dataclass


@dataclass(frozen=True, slots=True)
class Advice:
    """For one profile at one gateway on one kind of device. ``would``: what the gateway chose of the profile's offers.

    ``should``: the best that both ends and the policy allow; None where there is nothing. ``answered``: whether the
    gateway was asked and answered.
    """

    profile: str
    place: str
    gateway: str
    device: str
    asked: bool
    answered: bool
    rows: tuple[AdviceRow, ...]
    would: Suite | None
    should: Suite | None
    reasons: tuple[Reason, ...]
    obstacles: tuple[str, ...]
    findings: tuple[Finding, ...]
    answer: Answer | None = None

    @property
    def would_bits(self) -> int:
        """Strength of what would be negotiated."""
        return suite_strength(self.would) if self.would else 0

    @property
    def should_bits(self) -> int:
        """Strength of what should be."""
        return suite_strength(self.should) if self.should else 0


def advise(
    profile: Profile,
    policy: Policy,
    device: Client,
    costs: Costs,
    known: Capabilities | None,
    *,
    asked: bool,
    gateway: str,
) -> Advice:
    """Everything that can be said. ``known`` is None where the gateway was not asked or did not answer."""
    facet = advice_of(profile.tunnel.protocol)
    made = facet.advise(profile, policy, device, costs, known) or _judge_agreed(profile, policy, facet.source, known)
    found = judge_profile(policy, profile)
    if made.would is not None:
        found += judge_suite(policy, made.would, profile.name)
    weak = [row.name for row in made.rows if row.gateway and ("NOT" in row.ike_status or "NOT" in row.esp_status)]
    if weak:
        found.append(finding("gateway-takes-weak", gateway, ", ".join(weak)))
    return Advice(
        profile.name,
        profile.place,
        gateway,
        device.kind,
        asked,
        known is not None and (made.answer is not None or not made.rows),
        made.rows,
        made.would,
        made.should,
        made.reasons,
        (*made.obstacles, *misfits(profile, device)),
        tuple(found),
        made.answer,
    )


def _judge_agreed(profile: Profile, policy: Policy, source: str, known: Capabilities | None) -> AlgorithmAdvice:
    """The protocol leaves little to choose: what was agreed on is checked against the policy."""
    would = known.chosen if known else None
    broken = judge_suite(policy, would, profile.name) if would else []
    obstacles = (known.against,) if known and known.against else ()
    reasons = (Reason(known.words, source),) if known and known.words else ()
    should = would if not any(entry.code.slug == "policy-negotiated" for entry in broken) else None
    return AlgorithmAdvice((), would, should, reasons, obstacles)
