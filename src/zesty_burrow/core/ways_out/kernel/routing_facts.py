"""Devices, routes and policy rules of one version of IP, as the kernel has them: values only."""

from __future__ import annotations

from zesty_burrow.core.ways_out.classes.conditions import Match
from zesty_burrow.records import dataclass

UNICAST, LOCAL, BROADCAST, ANYCAST, MULTICAST, BLACKHOLE, UNREACHABLE, PROHIBIT, THROW = range(1, 10)
"""Types of routes (linux/rtnetlink.h)."""
REJECTING = {BLACKHOLE: "blackhole", UNREACHABLE: "unreachable", PROHIBIT: "prohibit"}
TO_TABLE, GO_TO, NOTHING, REJECT = "table", "goto", "nothing", "reject"
"""What a rule does."""


@dataclass(frozen=True, slots=True)
class Hop:
    """``device``: by number; ``group``: of the device; ``gateway``: the next host, empty if there is no next host."""

    device: int
    gateway: str = ""
    group: int = 0


@dataclass(frozen=True, slots=True)
class RouteFact:
    """``length``, ``value``: of the destination; ``service``: class of service, 0: any; ``source_length``: IPv6 routes
    for some sources alone. ``hops``: those that are alive.
    """

    value: int
    length: int
    kind: int
    metric: int
    hops: tuple[Hop, ...] = ()
    service: int = 0
    source_value: int = 0
    source_length: int = 0
    words: str = ""


@dataclass(frozen=True, slots=True)
class PolicyRule:
    """``match``: of what it asks, with ``inverted`` for all others. ``action``: one of the four; ``table`` or
    ``target`` (the priority that it jumps to), by action. ``shortest``: prefixes of routes not longer than this do not
    count, below 0: all do; ``group``: nor do routes by devices of this group. ``undecided``: why it cannot be known
    what it does.
    """

    priority: int
    match: Match
    action: str
    table: int = 0
    target: int = 0
    inverted: bool = False
    shortest: int = -1
    group: int = -1
    undecided: str = ""


@dataclass(frozen=True, slots=True)
class RoutingFacts:
    """Of one version of IP. ``devices``: names by number, of those that are up; ``forwards``: devices whose packets are
    passed on; ``own``: this machine's own addresses. ``undecided``: what the map cannot know, in words.
    """

    version: int
    devices: dict[int, str]
    rules: tuple[PolicyRule, ...]
    tables: dict[int, tuple[RouteFact, ...]]
    forwards: tuple[int, ...] = ()
    own: tuple[str, ...] = ()
    undecided: tuple[str, ...] = ()

    @property
    def width(self) -> int:
        """Bits of an address."""
        return 32 if self.version == 4 else 128
