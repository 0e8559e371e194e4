"""By which device the kernel sends a packet: rules and tables, for whole boxes of packets at once.

The order is the kernel's: rules by priority; in a table the longest prefix, then class of service, then metric. IPv4: a
program that has named a device gets it, also where no route leads there; IPv6 looks for a route by that device.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from zesty_burrow.core.ways_out.classes.conditions import BOUND, DESTINATION, ENTRY, SERVICE, SOURCE, Condition
from zesty_burrow.core.ways_out.classes.space import Box, Space, meet, split
from zesty_burrow.core.ways_out.kernel import routing_facts as kinds
from zesty_burrow.core.ways_out.kernel.routing_facts import PolicyRule, RouteFact, RoutingFacts

MOST_BOXES = 40_000
SERVICE_BITS = 0x1C
"""Of the octet: what IPv4 routes look at."""


class Outcome(NamedTuple):
    """``devices``: by which a packet leaves, by number; none: it is rejected, or stays on this machine (``is_local``).

    ``why``: the rule and the route, in words. ``undecided``: why it is not known.
    """

    devices: tuple[int, ...] = ()
    is_local: bool = False
    why: str = ""
    undecided: str = ""


class Routed(NamedTuple):
    """Packets that go the same way."""

    box: Box
    outcome: Outcome


NO_ROUTE = Outcome(why="no route")


def conditions_of(facts: RoutingFacts) -> Iterator[Condition]:
    """All that rules and routes ask of a packet."""
    for rule in facts.rules:
        for conjunction in rule.match:
            yield from conjunction
    for routes in facts.tables.values():
        for route in routes:
            yield _destination(route, facts.width)
            if route.source_length:
                yield _source(route, facts.width)
            if route.service:
                yield Condition.equals(SERVICE, route.service, SERVICE_BITS)
    for device in (0, *facts.devices):
        yield Condition.equals(BOUND, device)
    for device in (kinds.LOCAL, *facts.devices):
        yield Condition.equals(ENTRY, device)


def _destination(route: RouteFact, width: int) -> Condition:
    return Condition.prefix(DESTINATION, route.value, route.length, width)


def _source(route: RouteFact, width: int) -> Condition:
    return Condition.prefix(SOURCE, route.source_value, route.source_length, width)


class Router:
    """Routes boxes of one space by one machine's facts."""

    def __init__(self, space: Space, facts: RoutingFacts) -> None:
        self._space, self._facts = space, facts
        self._rules = [(rule, space.boxes(rule.match)) for rule in facts.rules]
        self._tables = {number: self._ordered(routes) for number, routes in facts.tables.items()}
        bound = space.partition(BOUND)
        self._unbound = bound.mask_of(Condition.equals(BOUND, 0))
        self._bound = {device: bound.mask_of(Condition.equals(BOUND, device)) for device in facts.devices}
        self.devices = self._unbound
        for classes in self._bound.values():
            self.devices |= classes

    def _ordered(self, routes: tuple[RouteFact, ...]) -> list[tuple[RouteFact, Box]]:
        rows = sorted(routes, key=lambda one: (-one.length, -one.source_length, -one.service, one.metric))
        ordered = []
        for route in rows:
            asked = [_destination(route, self._facts.width)]
            asked += [_source(route, self._facts.width)] if route.source_length else []
            asked += [Condition.equals(SERVICE, route.service, SERVICE_BITS)] if route.service else []
            box = self._space.box(tuple(asked))
            if box is not None:
                ordered.append((route, box))
        return ordered

    def route(self, box: Box) -> list[Routed]:
        """The ways of all packets of a box: each packet is in one result. Raises ``ValueError`` for too many."""
        found: list[Routed] = []
        waiting = [(box, 0, "")]
        while waiting:
            part, position, trail = waiting.pop()
            if position == len(self._rules):
                found += self._without_route(part, NO_ROUTE)
                continue
            rule, wanted = self._rules[position]
            inside, outside = split(part, wanted)
            if rule.inverted:
                inside, outside = outside, inside
            waiting += [(other, position + 1, trail) for other in outside]
            jumped = f"{trail}rule {rule.priority} to {rule.target}, " if rule.action == kinds.GO_TO else trail
            for one in inside:
                decided, further = self._by_rule(rule, one)
                found += [Routed(one, outcome._replace(why=f"{trail}{outcome.why}")) for one, outcome in decided]
                waiting += [(rest, self._next(rule, position), jumped) for rest in further]
            if len(waiting) + len(found) > MOST_BOXES:
                raise ValueError("too many classes of packets")
        return found

    def _next(self, rule: PolicyRule, position: int) -> int:
        if rule.action != kinds.GO_TO:
            return position + 1
        targets = (n for n, (other, _) in enumerate(self._rules) if other.priority >= rule.target and n > position)
        return next(targets, len(self._rules))

    def _by_rule(self, rule: PolicyRule, box: Box) -> tuple[list[Routed], list[Box]]:
        """What is decided by a rule, and what goes on to the next one."""
        if rule.undecided:
            return [Routed(box, Outcome(why=f"rule {rule.priority}", undecided=rule.undecided))], []
        if rule.action in (kinds.NOTHING, kinds.GO_TO):
            return [], [box]
        if rule.action == kinds.REJECT:
            return self._without_route(box, Outcome(why=f"rule {rule.priority} rejects")), []
        return self._by_table(rule, box)

    def _by_table(self, rule: PolicyRule, box: Box) -> tuple[list[Routed], list[Box]]:
        decided: list[Routed] = []
        further: list[Box] = []
        left = [box]
        for route, wanted in self._tables.get(rule.table, ()):
            if not left:
                break
            usable = meet(wanted, self._usable(route))
            if usable is None:
                continue
            rest: list[Box] = []
            for part in left:
                inside, outside = split(part, [usable])
                rest += outside
                for one in inside:
                    if route.kind == kinds.THROW or self._is_suppressed(rule, route):
                        further.append(one)
                    else:
                        decided += self._by_route(rule, route, one)
            left = rest
        return decided, [*further, *left]

    def _usable(self, route: RouteFact) -> Box:
        """All packets but those of programs that have named a device that the route does not lead by."""
        space = self._space
        if route.kind in kinds.REJECTING or route.kind == kinds.THROW:
            classes = self.devices if self._facts.version == 4 or route.kind == kinds.THROW else self._unbound
        else:
            classes = self._unbound
            for hop in route.hops:
                classes |= self._bound.get(hop.device, 0)
        return space.with_field(space.everything, BOUND, classes)

    def _is_suppressed(self, rule: PolicyRule, route: RouteFact) -> bool:
        if route.kind in kinds.REJECTING and self._facts.version == 4:
            return False
        if rule.group >= 0 and any(hop.group == rule.group for hop in route.hops):
            return True
        return route.length <= rule.shortest

    def _by_route(self, rule: PolicyRule, route: RouteFact, box: Box) -> list[Routed]:
        why = f"rule {rule.priority}, route {route.words}"
        if route.kind in kinds.REJECTING:
            return self._without_route(box, Outcome(why=f"{why} ({kinds.REJECTING[route.kind]})"))
        if route.kind in (kinds.LOCAL, kinds.ANYCAST):
            return [Routed(box, Outcome(is_local=True, why=why))]
        found = []
        inside, others = split(box, [self._space.with_field(self._space.everything, BOUND, self._unbound)])
        devices = tuple(dict.fromkeys(hop.device for hop in route.hops))
        found += [Routed(part, Outcome(devices, why=why)) for part in inside]
        for part in others:
            found += self._by_bound(part, why)
        return found

    def _by_bound(self, box: Box, why: str) -> list[Routed]:
        """Each by the device that its program has named."""
        found = []
        for device, classes in self._bound.items():
            met = self._space.of(box, BOUND) & classes
            if met:
                found.append(Routed(self._space.with_field(box, BOUND, met), Outcome((device,), why=why)))
        return found

    def _without_route(self, box: Box, outcome: Outcome) -> list[Routed]:
        """Rejected; but IPv4 believes a program that names a device that everybody is behind it."""
        if self._facts.version == 6:
            return [Routed(box, outcome)]
        own = self._space.of(box, ENTRY) & self._space.partition(ENTRY).mask_of(Condition.equals(ENTRY, 1))
        found = []
        unbound = self._space.of(box, BOUND) & self._unbound
        if unbound:
            found.append(Routed(self._space.with_field(box, BOUND, unbound), outcome))
        bound = self._space.of(box, BOUND) & ~self._unbound
        if bound and own:
            part = self._space.with_field(box, BOUND, bound)
            found += self._by_bound(part, "the device that the program is bound to")
        return found
