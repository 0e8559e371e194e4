"""The map of all ways out, by itself: partitions and boxes against counting, routing and filters against small examples."""

from __future__ import annotations

from dataclasses import FrozenInstanceError
from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zesty_burrow.core.ways_out.beside import (
    Allowed,
    Meant,
    by_ports,
    conditions,
    devices_towards,
    find_beside,
    find_misled,
    to,
)
from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    PORT,
    PROTOCOL,
    SOURCE,
    USER,
    Condition,
)
from zesty_burrow.core.ways_out.classes.partition import Partition
from zesty_burrow.core.ways_out.classes.space import Space, meet, minus, minus_all, split
from zesty_burrow.core.ways_out.kernel import filter_facts as filters
from zesty_burrow.core.ways_out.kernel import routing_facts as kinds
from zesty_burrow.core.ways_out.kernel.egress import derive
from zesty_burrow.core.ways_out.kernel.filter_facts import (
    Ask,
    Decide,
    FilterChain,
    FilterFacts,
    FilterRule,
    SendCopy,
    SetDestination,
    SetMark,
    Unknown,
)
from zesty_burrow.core.ways_out.kernel.routing_facts import Hop, PolicyRule, RouteFact, RoutingFacts

WIDTH = 6
FIELDS = {"one": WIDTH, "two": WIDTH}
LAN, TUNNEL, OTHER = 2, 7, 9
NOTHING = FilterFacts({}, {})


def ranges():
    pairs = st.tuples(st.integers(0, 63), st.integers(0, 63)).map(sorted).map(tuple)
    return st.lists(pairs, min_size=1, max_size=3).map(tuple)


def any_condition(field="one"):
    """Ranges, or a value in some bits."""
    spans = st.builds(Condition, st.just(field), ranges(), st.just(-1), st.booleans())
    bits = st.builds(
        lambda value, mask, negated: Condition(field, ((value & mask, value & mask),), mask, negated),
        st.integers(0, 63), st.integers(0, 63), st.booleans(),
    )  # fmt: skip
    return st.one_of(spans, bits)


def holds(condition, value):
    masked = value & condition.mask if condition.mask >= 0 else value
    return any(low <= masked <= high for low, high in condition.ranges) != condition.negated


@given(st.lists(any_condition(), max_size=6))
def test_a_partition_tells_apart_what_conditions_do(known):
    """Each value is in one class, and a condition holds for it exactly where its class is among the condition's."""
    partition = Partition(WIDTH, known)
    seen = 0
    for value in range(1 << WIDTH):
        own = partition.class_of(value)
        assert own.bit_count() == 1 and own & partition.all
        seen |= own
        for condition in known:
            assert bool(own & partition.mask_of(condition)) == holds(condition, value)
    assert seen == partition.all
    for bit in range(partition.size):
        assert partition.class_of(partition.member(1 << bit)) == 1 << bit


@given(st.lists(st.builds(Condition, st.just("one"), ranges()), max_size=5), st.integers(0, 1 << 20))
def test_intervals_are_the_values(known, chosen):
    partition = Partition(WIDTH, known)
    classes = chosen & partition.all
    listed = {value for low, high in partition.intervals(classes) for value in range(low, high + 1)}
    assert listed == {value for value in range(64) if partition.class_of(value) & classes}


def boxes(space):
    sets = [st.integers(1, partition.all) for partition in space.partitions]
    return st.tuples(*sets)


SPACE = Space(FIELDS, [Condition(field, ((n, n),)) for field in FIELDS for n in (3, 9, 20)])


def members(box):
    return {
        (one, two)
        for one in range(64)
        for two in range(64)
        if SPACE.partitions[0].class_of(one) & box[0] and SPACE.partitions[1].class_of(two) & box[1]
    }


@given(boxes(SPACE), boxes(SPACE))
def test_boxes_as_sets(first, second):
    met = meet(first, second)
    assert (members(met) if met else set()) == members(first) & members(second)
    rest = minus(first, second)
    assert set().union(*map(members, rest)) == members(first) - members(second)
    assert sum(len(members(part)) for part in rest) == len(members(first) - members(second))


@given(st.lists(boxes(SPACE), min_size=1, max_size=4), boxes(SPACE))
def test_a_split_loses_nothing(wanted, box):
    inside, outside = split(box, wanted)
    union = set().union(*map(members, wanted))
    assert set().union(*map(members, inside)) == members(box) & union
    assert set().union(*map(members, outside)) == members(box) - union
    assert sum(len(members(part)) for part in (*inside, *outside)) == len(members(box))
    assert set().union(*map(members, minus_all([box], wanted))) == members(box) - union


def test_a_range_in_single_bits_is_refused():
    with pytest.raises(ValueError, match="do not lead"):
        Partition(8, [Condition("one", ((1, 5),), 0b101)])


# Small machines.


def route(network, device, *, metric=0, kind=kinds.UNICAST, table="main"):
    parsed = ip_network(network)
    hops = (Hop(device),) if device else ()
    return RouteFact(int(parsed.network_address), parsed.prefixlen, kind, metric, hops, words=f"{network} in {table}")


def rule(priority, table=0, *match, **more):
    return PolicyRule(priority, (match,), more.pop("action", kinds.TO_TABLE), table, **more)


def machine(*rules, tables=None, forwards=()):
    """A tunnel that takes everything by table 100; the outer device by the main table."""
    own = {
        255: (route("192.168.77.20/32", OTHER, kind=kinds.LOCAL),),
        254: (route("0.0.0.0/0", LAN), route("192.168.77.0/24", LAN)),
        100: (route("0.0.0.0/0", TUNNEL), route("0.0.0.0/0", 0, metric=99, kind=kinds.UNREACHABLE)),
    }
    always = (rule(0, 255), rule(90, 254, to(ip_address("198.51.100.18"))), rule(100, 100), rule(200, 254))
    whole = tuple(sorted((*always, *rules), key=lambda one: one.priority))
    return RoutingFacts(
        4, {1: "lo", LAN: "lan", TUNNEL: "zesty0", OTHER: "far"}, whole, {**own, **(tables or {})}, forwards
    )


MEANT = Meant("lisbon", TUNNEL, (ip_network("0.0.0.0/0"),), (ip_address("198.51.100.18"),))
ALLOWED = [
    Allowed("tunnel", "its own", ((to(ip_address("198.51.100.18")), *by_ports(17, 4500)),)),
    Allowed("link", "groups", ((to(ip_network("224.0.0.0/4")),), (to(ip_address("255.255.255.255")),))),
]


def look(facts, known=NOTHING, tunnels=(MEANT,), allowed=ALLOWED, more=()):
    return derive(facts, known, [*conditions(allowed, tunnels, 4), *more], {TUNNEL})


def beside(facts, known=NOTHING, tunnels=(MEANT,), allowed=ALLOWED):
    ways = look(facts, known, tunnels, allowed)
    return {(row.kind, row.device, row.packets) for row in find_beside(ways, allowed, tunnels)}, ways


def kinds_of(facts, known=NOTHING, **more):
    return {kind for kind, _, _ in beside(facts, known, **more)[0]} - {"bound", "gateway"}


def chain(*rules, hook=filters.OUTPUT, **more):
    return FilterChain(tuple(FilterRule(steps, f"rule {n}") for n, steps in enumerate(rules)), hook, **more)


def known(**chains):
    return FilterFacts(chains, {"a state": 8})


def test_a_tunnel_for_everything():
    """Only a program's own choice leads past it: the device that it names, or the gateway's own address."""
    found, ways = beside(machine())
    assert {kind for kind, _, _ in found} == {"bound", "gateway"}
    assert ways.undecided == ()
    assert all(row[1] in ("lan", "far") for row in found)


CASES = [
    ("a prefix", [rule(50, 254, to(ip_network("192.0.2.0/24")))], "to 192.0.2.0/24"),
    ("a mark", [rule(50, 254, Condition.equals(MARK, 5))], "mark 0x5"),
    ("some bits of a mark", [rule(50, 254, Condition.equals(MARK, 0x10, 0xF0))], "mark"),
    ("a user", [rule(50, 254, Condition(USER, ((1000, 1999),)))], "of user 1000-1999"),
    ("a port", [rule(50, 254, *by_ports(6, 25))], "protocol TCP, port 25"),
    ("a source", [rule(50, 254, Condition.equals(SOURCE, int(ip_address("192.168.77.20"))))], "from 192.168.77.20"),
    ("all but one prefix", [rule(50, 254, to(ip_network("0.0.0.0/1")), inverted=True)], "to 128.0.0.0"),
    ("a jump", [rule(50, 0, to(ip_network("192.0.2.0/24")), action=kinds.GO_TO, target=200)], "to 192.0.2.0/24"),
]


@pytest.mark.parametrize(("what", "rules", "words"), CASES, ids=[case[0] for case in CASES])
def test_a_rule_beside_the_tunnel(what, rules, words):
    found, _ = beside(machine(*rules))
    ordinary = [packets for kind, device, packets in found if kind == "ordinary" and device == "lan"]
    assert any(words in packets for packets in ordinary), (what, found)


@pytest.mark.parametrize(
    "rules",
    [
        [rule(50, 100, Condition.equals(MARK, 5))],
        [rule(50, 0, to(ip_network("192.0.2.0/24")), action=kinds.REJECT)],
        [rule(50, 0, action=kinds.NOTHING)],
        [rule(50, 254, shortest=24)],
        [rule(150, 254, to(ip_network("192.0.2.0/24")))],
        [rule(50, 777)],
        [PolicyRule(50, (), kinds.TO_TABLE, 254)],
    ],
    ids=[
        "into the tunnel",
        "rejects",
        "nothing",
        "suppressed",
        "behind the tunnel's",
        "an empty table",
        "matches nothing",
    ],
)
def test_harmless_rules(rules):
    assert kinds_of(machine(*rules)) == set()


def test_a_table_that_lets_others_be_asked():
    """A throw route goes on with the next rule; an unreachable one ends the search."""
    tables = {100: (route("0.0.0.0/0", TUNNEL), route("192.0.2.0/24", 0, kind=kinds.THROW))}
    assert kinds_of(machine(tables=tables)) == {"ordinary"}
    tables = {100: (route("0.0.0.0/0", TUNNEL), route("192.0.2.0/24", 0, kind=kinds.UNREACHABLE))}
    assert kinds_of(machine(tables=tables)) == set()


def test_what_a_rule_does_not_tell_is_undecided():
    _, ways = beside(machine(rule(50, 254, undecided="a rule of routing domains")))
    assert ways.undecided == ("a rule of routing domains",)


def test_several_next_hops():
    both = RouteFact(0, 0, kinds.UNICAST, 0, (Hop(TUNNEL), Hop(LAN)), words="two ways")
    assert kinds_of(machine(tables={100: (both,)})) == {"ordinary"}


FROM_USER = Ask(((Condition.equals(USER, 7),),))
TO_PORT = Ask((by_ports(6, 8080),))


def devices_of(ways, **values):
    """By which devices one packet leaves; copies by a star."""
    packet = {DESTINATION: int(ip_address("8.8.8.8")), PROTOCOL: 6, PORT: 8080, ENTRY: 1, **values}
    space = ways.space
    found = set()
    for way in ways.ways:
        fields = zip(space.fields, space.partitions, way.sent, strict=True)
        if way.device and all(part.class_of(packet.get(field, 0)) & classes for field, part, classes in fields):
            found.add(ways.routing.devices[way.device] + ("*" if way.is_copy else ""))
    return found


MARKED = [rule(50, 254, Condition.equals(MARK, 5)), rule(51, 254, Condition.equals(MARK, 0x40, 0xC0)),
          rule(52, 254, to(ip_network("10.0.0.0/8")))]  # fmt: skip
FAR = int(ip_address("10.9.9.9"))
NEAR = int(ip_address("8.9.9.9"))


@pytest.mark.parametrize(
    ("steps", "devices"),
    [
        ((SetMark(5),), {"lan"}),
        ((SetMark(0x40, 0xC0),), {"lan"}),
        ((SetMark(6),), {"zesty0"}),
        ((SetDestination(((FAR, FAR),)),), {"lan"}),
        ((SetDestination(((NEAR, NEAR),)),), {"zesty0"}),
        ((SetDestination(((NEAR, NEAR), (FAR, FAR))),), {"zesty0", "lan"}),
        ((SetDestination(is_own=True),), set()),
        ((SendCopy(LAN),), {"zesty0", "lan*"}),
        ((SendCopy(0, FAR),), {"zesty0", "lan*"}),
        ((Decide(filters.ACCEPT), SetMark(5)), {"zesty0"}),
    ],
    ids=["mark", "bits of a mark", "another mark", "destination", "destination inside", "one of two", "itself", "copy",
         "copy by route", "accept"],
)  # fmt: skip
def test_packet_filters_that_change_the_way(steps, devices):
    """A mark or a destination that was changed leads to another look for the way; other packets go as before."""
    ways = look(machine(*MARKED), known(out=chain((TO_PORT, *steps), reroutes=True)))
    assert devices_of(ways) == devices
    assert devices_of(ways, port=443) == {"zesty0"}
    assert devices_of(ways, mark=5, port=443) == {"lan"}
    assert devices_of(ways, destination=FAR, port=443) == {"lan"}


def test_packets_that_are_taken_at_a_device():
    taken = chain((TO_PORT, SendCopy(LAN, instead=True)), hook=filters.AT_DEVICE, device=TUNNEL)
    ways = look(machine(), known(out=taken))
    assert devices_of(ways) == {"lan*"} and devices_of(ways, port=443) == {"zesty0"}


def test_a_changed_packet_is_routed_as_if_root_had_sent_it():
    """The kernel's second look knows no user."""
    facts = machine(rule(40, 254, Condition(USER, ((0, 0),))), rule(50, 100, Condition.equals(MARK, 5)))
    ways = look(facts, known(out=chain((TO_PORT, SetMark(9)), reroutes=True)))
    assert devices_of(ways, user=1000) == {"lan"} and devices_of(ways, user=1000, port=443) == {"zesty0"}


def test_a_filter_that_drops_what_would_leave():
    """The guard's work: what is not dropped is left over, and nothing else."""
    facts = machine(rule(50, 254, to(ip_network("192.0.2.0/24"))))
    outer = Ask(((Condition(filters.OUT_DEVICE, ((LAN, LAN), (OTHER, OTHER))),),))
    assert kinds_of(facts, known(out=chain((outer, Decide(filters.DROP))))) == set()
    assert beside(facts, known(out=chain((outer, Decide(filters.DROP)))))[0] == set()
    some = (outer, Ask(((Condition.equals(PROTOCOL, 6),),)), Decide(filters.DROP))
    found, _ = beside(facts, known(out=chain(some)))
    assert all("no protocol TCP" in packets for _, _, packets in found) and found


def test_jumps_returns_and_policies():
    facts = machine(rule(50, 254, to(ip_network("192.0.2.0/24"))))
    more = FilterChain((FilterRule((FROM_USER, Decide(filters.RETURN)), "r"), FilterRule((Decide(filters.DROP),), "d")))
    jump = chain((Decide(filters.JUMP, "more"),))
    found, _ = beside(facts, known(out=jump, more=more))
    assert {packets for kind, _, packets in found if kind == "ordinary"} == {"to 192.0.2.0/24, of user 7"}
    closed = chain((FROM_USER, Decide(filters.ACCEPT)), drops=True)
    found, _ = beside(facts, known(out=closed))
    assert {packets for kind, _, packets in found if kind == "ordinary"} == {"to 192.0.2.0/24, of user 7"}
    lost = chain((Decide(filters.JUMP, "nowhere"),))
    assert look(facts, known(out=lost)).undecided


def test_a_condition_without_a_meaning_may_hold():
    facts = machine(rule(50, 254, Condition.equals(MARK, 5)))
    state = Ask(((Condition.equals("a state", 1),),))
    found, _ = beside(facts, known(out=chain((state, SetMark(5)), reroutes=True)))
    assert any("a state" in packets for kind, _, packets in found if kind == "ordinary")


def test_an_effect_that_is_not_known_is_undecided():
    ways = look(machine(), known(out=chain((TO_PORT, Unknown("a program that decides")))))
    assert ways.undecided == ("a program that decides in rule 0",)


def test_packets_of_others():
    facts = machine(rule(50, 254, Condition.equals("entry", OTHER)), forwards=(OTHER,))
    assert kinds_of(facts) == {"passed on"}
    assert kinds_of(machine(forwards=(OTHER,))) == set()
    dropped = known(out=chain((Decide(filters.DROP),), hook=filters.FORWARD))
    assert kinds_of(facts, dropped) == set()


def test_at_a_device():
    facts = machine(rule(50, 254, to(ip_network("192.0.2.0/24"))))
    at_lan = known(out=chain((Decide(filters.DROP),), hook=filters.AT_DEVICE, device=LAN))
    assert {device for _, device, _ in beside(facts, at_lan)[0]} == {"far"}


def test_two_tunnels():
    """Each takes its own; the office's by the other one is a finding, by a program's choice of a device a note."""
    office = Meant("office", OTHER, (ip_network("10.20.0.0/16"),))
    tables = {101: (route("10.20.0.0/16", OTHER),)}
    facts = machine(rule(80, 101), tables=tables)
    assert kinds_of(facts, tunnels=(MEANT, office)) == set()
    wrong = machine(rule(80, 101), rule(70, 100, to(ip_network("10.20.0.0/16"))), tables=tables)
    assert kinds_of(wrong, tunnels=(MEANT, office)) == {"wrong tunnel"}


def test_left_out_networks_that_are_taken():
    tunnel = Meant("lisbon", TUNNEL, (ip_network("0.0.0.0/0"),), (), (ip_network("192.0.2.0/24"),))
    assert find_misled(look(machine(), tunnels=(tunnel,)), (tunnel,)) == ["lisbon"]
    facts = machine(rule(50, 254, to(ip_network("192.0.2.0/24"))))
    assert find_misled(look(facts, tunnels=(tunnel,)), (tunnel,)) == []


def test_where_questions_for_names_go():
    server = (to(ip_address("192.168.77.1")), *by_ports(17, 53))
    here = (to(ip_address("192.168.77.20")), *by_ports(17, 53))
    ways = look(machine(), more=(*server, *here))
    assert devices_towards(ways, server) == ((TUNNEL,), False)
    assert devices_towards(ways, here) == ((), True)


def test_bound_programs():
    """IPv4 believes a program that names a device; IPv6 wants a route by it."""
    found, _ = beside(machine())
    assert ("bound", "far") in {(kind, device) for kind, device, _ in found}
    six = RoutingFacts(
        6, {1: "lo", LAN: "lan", TUNNEL: "zesty0", OTHER: "far"}, (rule(100, 100), rule(200, 254)),
        {100: (RouteFact(0, 0, kinds.UNICAST, 0, (Hop(TUNNEL),)), RouteFact(0, 0, kinds.UNREACHABLE, 9)),
         254: (RouteFact(0, 0, kinds.UNICAST, 0, (Hop(LAN),)),)},
    )  # fmt: skip
    meant = Meant("lisbon", TUNNEL, (ip_network("::/0"),))
    ways = derive(six, NOTHING, conditions([], [meant], 6), {TUNNEL})
    assert {(row.kind, row.device) for row in find_beside(ways, [], [meant])} == {("bound", "lan")}


def test_values_do_not_change():
    with pytest.raises((AttributeError, FrozenInstanceError, TypeError)):
        Condition.equals(PORT, 5).field = DESTINATION
    assert Condition.equals(BOUND, 5) == Condition.equals(BOUND, 5)
