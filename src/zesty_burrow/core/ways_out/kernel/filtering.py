"""What packet filters make of packets, for whole boxes at once: dropped, marked, redirected, copied, or let through."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from zesty_burrow.core.ways_out.classes.conditions import BOUND, DESTINATION, MARK, USER, Condition, Conjunction
from zesty_burrow.core.ways_out.classes.space import Box, Space
from zesty_burrow.core.ways_out.kernel import filter_facts as facts
from zesty_burrow.core.ways_out.kernel.filter_facts import FilterChain, FilterFacts, FilterRule, Step
from zesty_burrow.core.ways_out.kernel.routing import Routed

DEEPEST = 20
"""Chains within chains; the kernel has 16."""
MOST_FLOWS = 40_000
Sparse = tuple[tuple[int, int], ...]
"""A box by the fields that it says something of: number and classes."""


class Flow(NamedTuple):
    """Packets on their way. ``sent``: as their programs have sent them; ``box``: as they are now, the same but for the
    fields ``changed``. ``device``: by which they are to leave, 0: they stay here.
    """

    sent: Box
    box: Box
    changed: frozenset[int]
    device: int
    why: tuple[str, ...]
    undecided: str = ""

    def narrowed(self, box: Box) -> Flow:
        """Some of these packets."""
        if box == self.box:
            return self
        if not self.changed:
            return Flow(box, box, self.changed, self.device, self.why, self.undecided)
        sent = tuple(old if n in self.changed else new for n, (old, new) in enumerate(zip(self.sent, box, strict=True)))
        return self._replace(sent=sent, box=box)


class _Stop(NamedTuple):
    """Flows that a chain has ended for (``accepted``), and those that go on behind it."""

    accepted: list[Flow]
    going_on: list[Flow]


class Filters:
    """Runs flows through the chains of a machine. ``route``: finds a way again for what was changed."""

    def __init__(self, space: Space, known: FilterFacts, route: Callable[[Box], list[Routed]]) -> None:
        self._space, self._known, self._route = space, known, route
        self._matches: dict[facts.Ask, list[tuple[Sparse, tuple[Condition, ...]]]] = {}
        self._root = space.partition(USER).class_of(0)
        self.copies: list[Flow] = []
        self.decided_elsewhere: list[Flow] = []

    def run(self, hook: str, flows: Iterable[Flow]) -> list[Flow]:
        """Those that come through all chains of a hook."""
        left = list(flows)
        chains = [chain for chain in self._known.chains.values() if chain.hook == hook]
        for chain in sorted(chains, key=lambda one: one.priority):
            if chain.device:
                mine = [flow for flow in left if flow.device == chain.device]
                left = [flow for flow in left if flow.device != chain.device] + self._base(chain, mine)
            else:
                left = self._base(chain, left)
        return left

    def _base(self, chain: FilterChain, flows: list[Flow]) -> list[Flow]:
        before = {id(flow): flow for flow in flows}
        stop = self._chain(chain, flows, 0)
        through = stop.accepted if chain.drops else [*stop.accepted, *stop.going_on]
        if not chain.reroutes:
            return through
        result: list[Flow] = []
        for flow in through:
            if flow.changed and id(flow) not in before:
                result += self._rerouted(flow)
            else:
                result.append(flow)
        return result

    def _rerouted(self, flow: Flow) -> Iterator[Flow]:
        """The kernel looks for the way of changed packets as if root had sent them."""
        user = self._space.index[USER]
        asked = (*flow.box[:user], self._root, *flow.box[user + 1 :])
        for routed in self._route(asked):
            box = (*routed.box[:user], flow.box[user], *routed.box[user + 1 :])
            part = flow.narrowed(box)
            outcome = routed.outcome
            why = (*flow.why, outcome.why)
            if outcome.undecided:
                yield part._replace(why=why, undecided=outcome.undecided)
            for device in outcome.devices or ((0,) if outcome.is_local else ()):
                yield part._replace(device=device, why=why)

    def _chain(self, chain: FilterChain, flows: list[Flow], depth: int) -> _Stop:
        accepted: list[Flow] = []
        returned: list[Flow] = []
        going_on = flows
        for rule in chain.rules:
            if not going_on:
                break
            going_on, ended, left = self._rule(rule, going_on, depth)
            accepted += ended
            returned += left
            if len(going_on) + len(accepted) > MOST_FLOWS:
                raise ValueError("too many classes of packets in the packet filter")
        return _Stop(accepted, [*returned, *going_on])

    def _rule(self, rule: FilterRule, flows: list[Flow], depth: int) -> tuple[list[Flow], list[Flow], list[Flow]]:
        """Flows for the next rule, those that are accepted, and those that return from the chain."""
        further: list[Flow] = []
        accepted: list[Flow] = []
        here = flows
        for step in rule.steps:
            if isinstance(step, facts.Ask):
                here, outside = self._asked(step, here)
                further += outside
            elif isinstance(step, facts.Decide):
                if step.how == facts.ACCEPT:
                    return further, [*accepted, *here], []
                if step.how == facts.RETURN:
                    return further, accepted, here
                if step.how in (facts.JUMP, facts.GOTO):
                    stop = self._jump(step.chain, here, depth)
                    if step.how == facts.GOTO:
                        return further, [*accepted, *stop.accepted], stop.going_on
                    accepted += stop.accepted
                    return [*further, *stop.going_on], accepted, []
                return ([*further, *here] if step.how == facts.CONTINUE else further), accepted, []
            else:
                here = self._changed(step, rule, here)
            if not here:
                break
        return [*further, *here], accepted, []

    def _jump(self, name: str, flows: list[Flow], depth: int) -> _Stop:
        if depth >= DEEPEST or name not in self._known.chains:
            return _Stop([], [flow._replace(undecided=f"chain {name}") for flow in flows])
        return self._chain(self._known.chains[name], flows, depth + 1) if flows else _Stop([], [])

    def _asked(self, step: facts.Ask, flows: list[Flow]) -> tuple[list[Flow], list[Flow]]:
        if step not in self._matches:
            self._matches[step] = [self._sparse(conjunction) for conjunction in step.match]
        inside: list[Flow] = []
        outside = flows
        for wanted, by_device in self._matches[step]:
            further: list[Flow] = []
            for flow in outside:
                if not all(_holds(condition, flow.device) for condition in by_device):
                    further.append(flow)
                    continue
                _split(flow, wanted, inside, further)
            outside = further
        return inside, outside

    def _sparse(self, conjunction: Conjunction) -> tuple[Sparse, tuple[Condition, ...]]:
        by_device = tuple(one for one in conjunction if one.field == facts.OUT_DEVICE)
        classes: dict[int, int] = {}
        for condition in conjunction:
            if condition.field != facts.OUT_DEVICE:
                number = self._space.index[condition.field]
                known = classes.get(number, self._space.partitions[number].all)
                classes[number] = known & self._space.partitions[number].mask_of(condition)
        return tuple(classes.items()), by_device

    def _changed(self, step: Step, rule: FilterRule, flows: list[Flow]) -> list[Flow]:
        if isinstance(step, facts.SetMark):
            return [changed for flow in flows for changed in self._marked(flow, step, rule)]
        if isinstance(step, facts.SetDestination):
            return [self._redirected(flow, step, rule) for flow in flows]
        if isinstance(step, facts.SendCopy):
            for flow in flows:
                self._copy(flow, step, rule)
            return [] if step.instead else flows
        if isinstance(step, facts.Unknown):
            return [flow._replace(undecided=f"{step.what} in {rule.name}") for flow in flows]
        return flows

    def _marked(self, flow: Flow, step: facts.SetMark, rule: FilterRule) -> Iterator[Flow]:
        number = self._space.index[MARK]
        partition = self._space.partitions[number]
        why = (*flow.why, rule.name)
        if step.mask == 0xFFFF_FFFF:
            box = (*flow.box[:number], partition.class_of(step.value), *flow.box[number + 1 :])
            yield flow._replace(box=box, changed=flow.changed | {number}, why=why)
            return
        # Of a part of the bits: of a class that is one value it is known which it becomes; of others any that has them.
        wanted = partition.mask_of(Condition.equals(MARK, step.value, step.mask)) or partition.all
        rest = flow.box[number]
        for classes, value in partition.single_values(rest):
            rest &= ~classes
            after = partition.class_of(value & ~step.mask | step.value)
            yield self._with_mark(flow, number, classes, after, why)
        if rest:
            yield self._with_mark(flow, number, rest, wanted, why)

    @staticmethod
    def _with_mark(flow: Flow, number: int, before: int, after: int, why: tuple[str, ...]) -> Flow:
        part = flow.narrowed((*flow.box[:number], before, *flow.box[number + 1 :]))
        box = (*part.box[:number], after, *part.box[number + 1 :])
        return part._replace(box=box, changed=flow.changed | {number}, why=why)

    def _redirected(self, flow: Flow, step: facts.SetDestination, rule: FilterRule) -> Flow:
        why = (*flow.why, rule.name)
        if step.is_own:
            return flow._replace(device=0, why=why)
        number = self._space.index[DESTINATION]
        partition = self._space.partitions[number]
        classes = partition.mask_of(Condition(DESTINATION, step.ranges)) if step.ranges else partition.all
        box = (*flow.box[:number], classes, *flow.box[number + 1 :])
        undecided = flow.undecided or ("" if step.ranges else f"the destination that {rule.name} chooses")
        return flow._replace(box=box, changed=flow.changed | {number}, why=why, undecided=undecided)

    def _copy(self, flow: Flow, step: facts.SendCopy, rule: FilterRule) -> None:
        why = (*flow.why, rule.name)
        if step.device:
            self.copies.append(flow._replace(device=step.device, why=why))
            return
        destination, bound = self._space.index[DESTINATION], self._space.index[BOUND]
        box = list(flow.box)
        box[destination] = self._space.partitions[destination].class_of(step.destination)
        box[bound] = self._space.partitions[bound].class_of(0)
        changed = flow._replace(box=tuple(box), changed=flow.changed | {destination, bound}, why=why)
        self.copies += [copy for copy in self._rerouted(changed) if copy.device]


def _holds(condition: Condition, device: int) -> bool:
    return any(low <= device <= high for low, high in condition.ranges) != condition.negated


def _split(flow: Flow, wanted: Sparse, inside: list[Flow], outside: list[Flow]) -> None:
    """A flow in two: what matches, and the rest."""
    box = flow.box
    for number, classes in wanted:
        if not box[number] & classes:
            outside.append(flow)
            return
    for number, classes in wanted:
        left = box[number] & ~classes
        if left:
            outside.append(flow.narrowed((*box[:number], left, *box[number + 1 :])))
            box = (*box[:number], box[number] & classes, *box[number + 1 :])
    inside.append(flow.narrowed(box))
