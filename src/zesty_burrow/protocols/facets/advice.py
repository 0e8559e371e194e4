"""What can be said of a protocol's algorithms at a gateway, and when the protocol is preferred."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from zesty_burrow.core.policy.algorithms import describe
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.suite import Suite
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.facets.device import Client
from zesty_burrow.protocols.session import Capabilities
from zesty_burrow.records import dataclass

Costs = Mapping[tuple[int, int, int], float]
"""Seconds by type, number and key bits: of a packet for ciphers and ICVs, of an agreement for groups."""


@dataclass(frozen=True, slots=True)
class AdviceRow:
    """One algorithm: who can do it, what the RFCs and the policy say, its strength and relative cost (1: the least)."""

    type: int
    number: int
    key_bits: int
    offered: bool
    gateway: bool | None
    device: bool
    ike_status: str
    esp_status: str
    bits: int
    cost: float | None
    good: bool
    why: str
    source: str

    @property
    def name(self) -> str:
        """IANA's name, with the key length."""
        return describe(self.type, self.number, self.key_bits)


@dataclass(frozen=True, slots=True)
class Reason:
    """A reason in words, and its source."""

    words: str
    source: str


@dataclass(frozen=True, slots=True)
class Answer:
    """How a gateway has answered: how many ``questions``, the quickest in seconds, and what else it can do."""

    questions: int
    round_trip: float
    extras: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class AlgorithmAdvice:
    """``should``: the best suite that both ends and the policy allow; or None.

    ``answer``: None if the gateway has not answered. ``obstacles``: why no tunnel would come up.
    """

    rows: tuple[AdviceRow, ...]
    would: Suite | None
    should: Suite | None
    reasons: tuple[Reason, ...]
    obstacles: tuple[str, ...]
    answer: Answer | None = None


@dataclass(frozen=True, slots=True)
class Preference:
    """When a protocol is taken over a transport. ``rank``: of all protocols' preferences the lowest one is the best."""

    rank: int
    over: str
    why: str
    source: str


class AdviceFacet(Protocol):
    """``source``: the RFCs behind the opinion of a suite; ``preferences``: one for each transport."""

    @property
    def source(self) -> str:
        """RFC numbers."""

    @property
    def preferences(self) -> tuple[Preference, ...]:
        """Empty: it is only taken if nothing else is answered."""

    def advise(
        self, profile: Profile, policy: Policy, client: Client, costs: Costs, known: Capabilities | None
    ) -> AlgorithmAdvice | None:
        """Advice about single algorithms; None if the protocol leaves nothing to choose."""
