"""The map of all ways out: from routes, rules and packet filters to every class of packets that leaves, and by which
device.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    OWN,
    SOURCE,
    USER,
    WIDTHS,
    Condition,
)
from zesty_burrow.core.ways_out.classes.space import Box, Space
from zesty_burrow.core.ways_out.kernel import filter_facts as filters
from zesty_burrow.core.ways_out.kernel.filter_facts import FilterFacts
from zesty_burrow.core.ways_out.kernel.filtering import Filters, Flow
from zesty_burrow.core.ways_out.kernel.routing import Routed, Router, conditions_of
from zesty_burrow.core.ways_out.kernel.routing_facts import RoutingFacts
from zesty_burrow.records import dataclass

ALL_DEVICES = "any"


@dataclass(frozen=True, slots=True)
class Way:
    """Packets that leave by a device. ``sent``: as their programs have sent them; ``device``: its number; ``why``:
    rules and routes, in words; ``is_copy``: the packets themselves go elsewhere. ``undecided``: why it is not known.
    """

    sent: Box
    device: int
    why: tuple[str, ...]
    is_copy: bool = False
    undecided: str = ""


@dataclass(frozen=True, slots=True)
class WaysOut:
    """Of one version of IP. ``ways``: all, into tunnels as well; ``routed``: what routes and rules alone say.
    ``undecided``: what the map cannot know, in words.
    """

    space: Space
    routing: RoutingFacts
    ways: tuple[Way, ...]
    routed: tuple[Routed, ...]
    undecided: tuple[str, ...]


def derive(
    routing: RoutingFacts,
    known: FilterFacts,
    more: Iterable[Condition] = (),
    inside: Collection[int] = (),
) -> WaysOut:
    """All ways out of a machine. ``more``: conditions of questions that are asked of the map afterwards; ``inside``:
    the devices of tunnels, by number. Raises ``ValueError`` for more classes than can be looked at.
    """
    widths = {DESTINATION: routing.width, SOURCE: routing.width, **WIDTHS, **known.free}
    asked = [*conditions_of(routing), *_conditions_of(known), *more]
    asked += [Condition.equals(SOURCE, 0), Condition.equals(USER, 0), Condition.equals(ENTRY, OWN)]
    asked += [Condition.equals(MARK, 0)]
    space = Space(widths, asked)
    router = Router(space, routing)
    entry = space.partition(ENTRY)
    own = space.with_field(space.everything, ENTRY, entry.mask_of(Condition.equals(ENTRY, OWN)))
    routed = router.route(space.with_field(own, BOUND, router.devices))
    undecided = [*routing.undecided, *known.undecided]
    ways = list(_sent(space, router, known, routed, inside))
    for device in routing.forwards:
        box = space.with_field(space.everything, ENTRY, entry.mask_of(Condition.equals(ENTRY, device)))
        unbound = space.partition(BOUND).mask_of(Condition.equals(BOUND, 0))
        ways += _passed_on(space, router, known, space.with_field(box, BOUND, unbound))
    undecided += [way.undecided for way in ways if way.undecided]
    return WaysOut(space, routing, tuple(ways), tuple(routed), tuple(dict.fromkeys(undecided)))


def _conditions_of(known: FilterFacts) -> Iterator[Condition]:
    for chain in known.chains.values():
        for rule in chain.rules:
            for step in rule.steps:
                if isinstance(step, filters.Ask):
                    for conjunction in step.match:
                        yield from (one for one in conjunction if one.field != filters.OUT_DEVICE)
                elif isinstance(step, filters.SetMark):
                    yield Condition.equals(MARK, step.value, -1 if step.mask == 0xFFFF_FFFF else step.mask)
                elif isinstance(step, filters.SetDestination) and step.ranges:
                    yield Condition(DESTINATION, step.ranges)
                elif isinstance(step, filters.SendCopy) and step.destination:
                    yield Condition.equals(DESTINATION, step.destination)


def _flows(routed: Iterable[Routed]) -> Iterator[Flow]:
    for box, outcome in routed:
        why = (outcome.why,)
        if outcome.undecided:
            yield Flow(box, box, frozenset(), 0, why, outcome.undecided)
        for device in outcome.devices or ((OWN,) if outcome.is_local else ()):
            yield Flow(box, box, frozenset(), device, why)


def _sent(
    space: Space, router: Router, known: FilterFacts, routed: list[Routed], inside: Collection[int]
) -> Iterator[Way]:
    """Of this machine's own programs."""
    looked: list[Flow] = []
    for flow in _flows(routed):
        if flow.undecided:
            yield _way(flow)
        elif known.redirects or (flow.device != OWN and flow.device not in inside):
            looked.append(flow)
        elif flow.device != OWN:
            yield _way(flow)
    run = Filters(space, known, router.route)
    hooks = (filters.OUTPUT, filters.POSTROUTING, filters.AT_DEVICE)
    yield from _through(run, hooks, looked)


def _passed_on(space: Space, router: Router, known: FilterFacts, box: Box) -> Iterator[Way]:
    """Of others, for whom this machine is a router."""
    run = Filters(space, known, router.route)
    came = run.run(filters.PREROUTING, [Flow(box, box, frozenset(), 0, ())])
    flows = []
    for flow in came:
        for routed in router.route(flow.box):
            part = flow.narrowed(routed.box)
            for device in routed.outcome.devices:
                flows.append(part._replace(device=device, why=(*flow.why, routed.outcome.why)))
    yield from _through(run, (filters.FORWARD, filters.POSTROUTING, filters.AT_DEVICE), flows)


def _through(run: Filters, hooks: tuple[str, ...], flows: list[Flow]) -> Iterator[Way]:
    left = flows
    for hook in hooks:
        left = run.run(hook, left)
    yield from (_way(flow) for flow in left if flow.device not in (0, OWN) or flow.undecided)
    copies, run.copies = run.copies, []
    for hook in (filters.OUTPUT, filters.POSTROUTING, filters.AT_DEVICE):
        copies = run.run(hook, copies)
    for flow in copies:
        yield Way(flow.sent, flow.device, flow.why, True, flow.undecided)


def _way(flow: Flow) -> Way:
    return Way(flow.sent, flow.device, flow.why, False, flow.undecided)
