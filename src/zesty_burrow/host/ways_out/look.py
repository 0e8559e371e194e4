"""Look at this machine's ways out: read, derive, compare with the kernel, and name what leaves beside its tunnel."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from zesty_burrow.core.net import Address
from zesty_burrow.core.ways_out import beside
from zesty_burrow.core.ways_out.beside import Allowed, Meant, by_ports, devices_towards, find_beside, find_misled, to
from zesty_burrow.core.ways_out.classes.conditions import DESTINATION, PROTOCOL, SOURCE, Condition
from zesty_burrow.core.ways_out.kernel.egress import WaysOut, derive
from zesty_burrow.core.ways_out.kernel.filter_facts import NOTHING
from zesty_burrow.core.ways_out.kernel.routing import Outcome
from zesty_burrow.core.ways_out.kernel.routing_facts import RoutingFacts
from zesty_burrow.core.ways_out.seen import WaysSeen, WaySummary
from zesty_burrow.core.ways_out.words import box_words, hull
from zesty_burrow.errors import RightsMissing
from zesty_burrow.host.guard.plan import MARK
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.ways_out import ask_kernel
from zesty_burrow.host.ways_out.elsewhere import other_deciders
from zesty_burrow.host.ways_out.filter_tables import read_filters
from zesty_burrow.host.ways_out.routing_tables import read_routing
from zesty_burrow.host.ways_out.sockets import bound_sockets
from zesty_burrow.records import replace

LINK_SCOPE = {
    4: (
        Condition.prefix(DESTINATION, 0xE000_0000, 4, 32),
        Condition.equals(DESTINATION, 0xFFFF_FFFF),
        Condition.equals(DESTINATION, 0),
    ),
    6: (
        Condition.prefix(DESTINATION, 0xFF << 120, 8, 128),
        Condition.prefix(DESTINATION, 0xFE80 << 112, 10, 128),
        Condition.equals(DESTINATION, 0),
    ),
}
"""Destinations for which the kernel's lookup wants to know the device, or that cannot be looked up."""
MOST_DIFFERENCES = 8


class Towards(NamedTuple):
    """A place of which it is asked by which devices packets go there: UDP for names, TCP for proxies."""

    address: Address
    protocol: int
    port: int


Answers = dict[Towards, tuple[tuple[str, ...], bool]]
"""Names of devices, and whether packets stay on this machine."""


def look_at_ways(
    tunnels: Sequence[Meant],
    allowed: dict[int, list[Allowed]],
    names: Iterable[str] = (),
    towards: Iterable[Towards] = (),
) -> tuple[WaysSeen, Answers]:
    """``allowed``: by version of IP; ``names``: devices of the tunnels; ``towards``: places that are asked for. Raises
    :class:`MachineError`.
    """
    seen, answers = WaysSeen(), Answers()
    own, places = tuple(names), list(towards)
    with Netlink() as netlink:
        for version in (4, 6):
            wanted = [place for place in places if place.address.version == version]
            part, found = _look(netlink, version, tunnels, allowed[version], own, wanted)
            seen = _together(seen, part)
            answers |= found
        devices = {link.number: link.name for link in netlink.links()}
    sockets = tuple(bound_sockets(devices, MARK, ("lo", *own)))
    undecided = tuple(dict.fromkeys((*seen.undecided, *other_deciders(devices))))
    words = dict.fromkeys(one.words for rows in allowed.values() for one in rows)
    return replace(seen, sockets=sockets, undecided=undecided, allowed=tuple(words)), answers


def _together(one: WaysSeen, other: WaysSeen) -> WaysSeen:
    return WaysSeen(
        one.classes + other.classes,
        one.asked + other.asked,
        (*one.differing, *other.differing),
        (*one.beside, *other.beside),
        tuple(dict.fromkeys((*one.undecided, *other.undecided))),
        (),
        (*one.summaries, *other.summaries),
        tuple(dict.fromkeys((*one.misled, *other.misled))),
    )


def _look(
    netlink: Netlink,
    version: int,
    tunnels: Sequence[Meant],
    allowed: list[Allowed],
    own: Sequence[str],
    places: list[Towards],
) -> tuple[WaysSeen, Answers]:
    facts = read_routing(netlink, version)
    inside = {number for number, name in facts.devices.items() if name in own}
    more = [*beside.conditions(allowed, tunnels, version), *LINK_SCOPE[version], Condition.equals(SOURCE, 0)]
    more += [Condition.equals(PROTOCOL, number) for number in ask_kernel.ASKABLE[version]]
    asked_for = {place: (to(place.address), *by_ports(place.protocol, place.port)) for place in places}
    more += [condition for conjunction in asked_for.values() for condition in conjunction]
    undecided: tuple[str, ...] = ()
    try:
        known = read_filters(version, facts.devices)
    except RightsMissing:
        known, undecided = NOTHING, ("the packet filter, which only root may read",)
    try:
        ways = derive(facts, known, more, inside)
        asked, differing = compare_with_kernel(netlink, ways)
        found = find_beside(ways, allowed, tunnels)
    except ValueError as problem:
        return WaysSeen(undecided=(f"IPv{version}: {problem}",)), {}
    answers: Answers = {}
    for place, conjunction in asked_for.items():
        numbers, here = devices_towards(ways, conjunction)
        answers[place] = (tuple(facts.devices.get(number, str(number)) for number in numbers), here)
    reasons = (*undecided, *(f"IPv{version}: {reason}" for reason in ways.undecided))
    seen = WaysSeen(
        len(ways.routed) + len(ways.ways),
        asked,
        tuple(differing[:MOST_DIFFERENCES]),
        tuple(found),
        reasons,
        (),
        tuple(_summaries(ways, inside)),
        tuple(find_misled(ways, tunnels)),
    )
    return seen, answers


def _summaries(ways: WaysOut, inside: set[int]) -> Iterable[WaySummary]:
    """What leaves by each device, in a line each."""
    by_device: dict[int, list[tuple[int, ...]]] = defaultdict(list)
    for way in ways.ways:
        if way.device:
            by_device[way.device].append(way.sent)
    facts = ways.routing
    for device, boxes in by_device.items():
        words = box_words(ways.space, hull(boxes), facts.devices, facts.version)
        role = "tunnel" if device in inside else "outer"
        yield WaySummary(facts.version, facts.devices.get(device, str(device)), role, words, len(boxes))


def compare_with_kernel(netlink: Netlink, ways: WaysOut) -> tuple[int, list[str]]:
    """One member of each class of packets that the kernel's lookup takes, compared; how many, and what differs."""
    space, facts = ways.space, ways.routing
    version, protocols = facts.version, space.partition(PROTOCOL)
    askable = {number: protocols.class_of(number) for number in ask_kernel.ASKABLE[version]}
    every = 0
    for classes in askable.values():
        every |= classes
    no_source = space.partition(SOURCE).class_of(0)
    special = 0
    for condition in LINK_SCOPE[version]:
        special |= space.partition(DESTINATION).mask_of(condition)
    asked, differing = 0, []
    for box, outcome in ways.routed:
        destination, protocol = space.of(box, DESTINATION) & ~special, space.of(box, PROTOCOL) & every
        if outcome.undecided or not (destination and protocol and space.of(box, SOURCE) & no_source):
            continue
        part = space.with_field(space.with_field(box, DESTINATION, destination), PROTOCOL, protocol)
        packet = space.members(space.with_field(part, SOURCE, no_source))
        packet[PROTOCOL] = next(number for number, classes in askable.items() if classes & protocol)
        packet[SOURCE] = 0
        answer = ask_kernel.device_for(netlink, facts, packet)
        asked += 1
        if answer not in expected(outcome):
            words = ask_kernel.packet_words(packet, version)
            differing.append(
                f"{words}: the map says {_named(expected(outcome)[0], facts)}, the kernel {_named(answer, facts)}"
            )
    return asked, differing


def expected(outcome: Outcome) -> tuple[int, ...]:
    """What :func:`ask_kernel.device_for` may answer."""
    return (ask_kernel.LOCAL_ANSWER,) if outcome.is_local else outcome.devices or (0,)


def _named(device: int, facts: RoutingFacts) -> str:
    return "this machine" if device == ask_kernel.LOCAL_ANSWER else facts.devices.get(device, "none")
