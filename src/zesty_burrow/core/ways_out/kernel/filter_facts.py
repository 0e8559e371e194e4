"""Packet filters of one version of IP, as values: chains, and what each rule asks and does, in its order."""

from __future__ import annotations

from zesty_burrow.core.ways_out.classes.conditions import Match
from zesty_burrow.records import dataclass

OUT_DEVICE = "leaving device"
"""The device by which a packet is to leave, by number: known where a packet filter looks."""
PREROUTING, FORWARD, OUTPUT, POSTROUTING, AT_DEVICE = "prerouting", "forward", "output", "postrouting", "egress"
ACCEPT, DROP, CONTINUE, RETURN, JUMP, GOTO = "accept", "drop", "continue", "return", "jump", "goto"


@dataclass(frozen=True, slots=True)
class Ask:
    """The rule goes on only for packets that match."""

    match: Match


@dataclass(frozen=True, slots=True)
class Decide:
    """``how``: one of the verdicts; ``chain``: where JUMP and GOTO go."""

    how: str
    chain: str = ""


@dataclass(frozen=True, slots=True)
class SetMark:
    """The packet's mark is, in the bits of ``mask``, ``value`` from now on."""

    value: int
    mask: int = 0xFFFF_FFFF


@dataclass(frozen=True, slots=True)
class SetDestination:
    """Its destination is one of these from now on, lowest and highest; none: it is not known which. ``is_own``: this
    machine itself.
    """

    ranges: tuple[tuple[int, int], ...] = ()
    is_own: bool = False


@dataclass(frozen=True, slots=True)
class SendCopy:
    """A copy leaves by a device, 0: by the way to ``destination``. ``instead``: the packet itself, not a copy."""

    device: int = 0
    destination: int = 0
    instead: bool = False


@dataclass(frozen=True, slots=True)
class Unknown:
    """Something whose effect is not known, in words."""

    what: str


Step = Ask | Decide | SetMark | SetDestination | SendCopy | Unknown


@dataclass(frozen=True, slots=True)
class FilterRule:
    """``name``: for people, table and chain with the rule's handle."""

    steps: tuple[Step, ...]
    name: str


@dataclass(frozen=True, slots=True)
class FilterChain:
    """``hook``: where a base chain looks, empty for one that others jump to; ``device``: of the hook at a device, by
    number. ``reroutes``: packets that it has changed look for their way again. ``drops``: its policy.
    """

    rules: tuple[FilterRule, ...]
    hook: str = ""
    priority: int = 0
    device: int = 0
    reroutes: bool = False
    drops: bool = False


@dataclass(frozen=True, slots=True)
class FilterFacts:
    """``chains`` by table and name. ``free``: bits of further fields of packets that rules ask for. ``undecided``: what
    else is there and is not looked at, in words.
    """

    chains: dict[str, FilterChain]
    free: dict[str, int]
    undecided: tuple[str, ...] = ()

    @property
    def redirects(self) -> bool:
        """Whether any rule changes the way of packets, instead of only dropping some."""
        changing = (SetMark, SetDestination, SendCopy, Unknown)
        rules = (rule for chain in self.chains.values() for rule in chain.rules)
        return any(isinstance(step, changing) for rule in rules for step in rule.steps)


NOTHING = FilterFacts({}, {})
