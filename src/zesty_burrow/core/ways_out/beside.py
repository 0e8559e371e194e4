"""Which packets that belong in a tunnel leave beside it: the map of all ways out against what is meant to leave."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain

from zesty_burrow.core.net import TCP, UDP, Address, Network
from zesty_burrow.core.ways_out.classes.conditions import (
    BOUND,
    DESTINATION,
    ENTRY,
    MARK,
    OWN,
    PORT,
    PROTOCOL,
    SOURCE_PORT,
    USER,
    Condition,
    Conjunction,
    Match,
)
from zesty_burrow.core.ways_out.classes.space import Box, meet, minus_all
from zesty_burrow.core.ways_out.kernel.egress import Way, WaysOut
from zesty_burrow.core.ways_out.words import box_words, hull
from zesty_burrow.records import dataclass

ICMPV6 = 58
ORDINARY, BY_DEVICE, GATEWAY, COPY, PASSED_ON, WRONG_TUNNEL = (
    "ordinary",
    "bound",
    "gateway",
    "copy",
    "passed on",
    "wrong tunnel",
)
"""What has to be so that such packets leave: nothing; their program has named the device; they go to the gateway's own
address; a rule copies them; another machine or a container sends them through this one; they go by another tunnel.
"""


BY_ITSELF = ("the program names the device itself",)


@dataclass(frozen=True, slots=True)
class Allowed:
    """Packets that may leave beside the tunnels. ``name``: for counters and the watch; ``devices``: numbers of those by
    which, none: by any.
    """

    name: str
    words: str
    match: Match
    devices: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class Meant:
    """A tunnel as it is meant. ``networks``: what belongs in it; ``gateways``: addresses of the other end, or of a
    proxy; ``device``: number of its device, 0 while it has none. ``left_out``: what is to leave beside it.
    """

    name: str
    device: int
    networks: tuple[Network, ...]
    gateways: tuple[Address, ...] = ()
    left_out: tuple[Network, ...] = ()

    @property
    def everything(self) -> bool:
        """Whether all traffic of a version of IP belongs in it."""
        return any(network.prefixlen == 0 for network in self.networks)


@dataclass(frozen=True, slots=True)
class Beside:
    """A class of packets that leaves beside a tunnel. ``packets``, ``why``: in words; ``device``: by name; ``kind``:
    one of those above; ``tunnel``: by name.
    """

    version: int
    packets: str
    device: str
    why: str
    kind: str
    tunnel: str


def to(network: Network | Address) -> Condition:
    """Packets to an address or a network."""
    length = network.prefixlen if not isinstance(network, Address) else network.max_prefixlen
    value = int(network.network_address if not isinstance(network, Address) else network)
    return Condition.prefix(DESTINATION, value, length, network.max_prefixlen)


def by_ports(protocol: int, port: int, source_port: int = 0) -> Conjunction:
    """Packets of a protocol to a port, 0 for any, and from one."""
    ports = [Condition.equals(PORT, port)] if port else []
    ports += [Condition.equals(SOURCE_PORT, source_port)] if source_port else []
    return (Condition.equals(PROTOCOL, protocol), *ports)


def dhcp(version: int) -> Allowed:
    """RFC 2131 §4.1, RFC 9915 §7.2."""
    ports = by_ports(UDP, 67, 68) if version == 4 else by_ports(UDP, 547, 546)
    return Allowed("dhcp", "DHCP", (ports,))


def neighbours(networks: Iterable[Network]) -> Allowed:
    """Neighbour discovery (RFC 4861): to addresses of the link."""
    return Allowed(
        "neighbours", "neighbour discovery", tuple((to(one), Condition.equals(PROTOCOL, ICMPV6)) for one in networks)
    )


def of_user(user: int, ports: Iterable[tuple[int, int]]) -> Match:
    """A user's packets to some ports, by protocol and port."""
    return tuple((Condition.equals(USER, user), *by_ports(protocol, port)) for protocol, port in ports)


def answers(address: Address, port: int) -> Conjunction:
    """What a TCP server of this machine answers to an address."""
    return (to(address), Condition.equals(PROTOCOL, TCP), Condition.equals(SOURCE_PORT, port))


def conditions(allowed: Iterable[Allowed], tunnels: Iterable[Meant], version: int) -> Iterator[Condition]:
    """What :func:`find_beside` will ask of a map: the map has to be derived with these."""
    for one in allowed:
        yield from chain.from_iterable(one.match)
    for tunnel in tunnels:
        yield from (to(network) for network in tunnel.networks if network.version == version)
        yield from (to(address) for address in tunnel.gateways if address.version == version)
        yield from (to(network) for network in tunnel.left_out if network.version == version)


def devices_towards(ways: WaysOut, conjunction: Conjunction) -> tuple[tuple[int, ...], bool]:
    """By which devices packets leave that match, of programs that ask for nothing special; whether some stay here."""
    space = ways.space
    asked = space.box(
        (*conjunction, Condition.equals(BOUND, 0), Condition.equals(MARK, 0), Condition.equals(ENTRY, OWN))
    )
    if asked is None:
        return (), False
    found = {way.device: None for way in ways.ways if way.device and meet(way.sent, asked)}
    here = any(outcome.is_local and meet(box, asked) for box, outcome in ways.routed)
    return tuple(found), here


def find_misled(ways: WaysOut, tunnels: Iterable[Meant]) -> list[str]:
    """The tunnels that take packets which they are to leave beside them."""
    unbound = ways.space.partition(BOUND).mask_of(Condition.equals(BOUND, 0))
    found = []
    for tunnel in tunnels:
        beside = _boxes(ways, tunnel.left_out)
        taken = [
            way.sent for way in ways.ways if way.device == tunnel.device and ways.space.of(way.sent, BOUND) & unbound
        ]
        if any(meet(sent, box) for sent in taken for box in beside):
            found.append(tunnel.name)
    return found


def find_beside(ways: WaysOut, allowed: Iterable[Allowed], tunnels: Iterable[Meant]) -> list[Beside]:
    """All classes that leave beside the tunnel that they belong in, each group of one device and one reason once."""
    known = list(tunnels)
    devices = {tunnel.device for tunnel in known if tunnel.device}
    rows = list(allowed)
    groups: dict[tuple[str, int, tuple[str, ...], str], list[Box]] = {}
    for tunnel in known:
        own = _boxes(ways, tunnel.networks)
        others = _boxes(ways, _narrower(tunnel, known))
        for way in ways.ways:
            if not way.device or way.device == tunnel.device or (tunnel.everything and way.device in devices):
                continue
            belonging = [met for box in own if (met := meet(way.sent, box)) is not None]
            left = minus_all(_disjoint(belonging), others)
            for one in rows:
                if left and (not one.devices or way.device in one.devices):
                    left = minus_all(left, ways.space.boxes(one.match))
            for box in left:
                for kind, part in _kinds(ways, tunnel, way, box, devices):
                    why = BY_ITSELF if kind == BY_DEVICE else way.why
                    groups.setdefault((kind, way.device, why, tunnel.name), []).append(part)
    return [_beside(ways, key, boxes) for key, boxes in groups.items()]


def _narrower(tunnel: Meant, tunnels: Iterable[Meant]) -> list[Network]:
    """What a tunnel for some networks takes from one for everything."""
    if not tunnel.everything:
        return []
    return [network for other in tunnels if not other.everything for network in other.networks]


def _boxes(ways: WaysOut, networks: Iterable[Network]) -> list[Box]:
    version = ways.routing.version
    boxes = (ways.space.box((to(network),)) for network in networks if network.version == version)
    return [box for box in boxes if box is not None]


def _disjoint(boxes: list[Box]) -> list[Box]:
    found: list[Box] = []
    for box in boxes:
        found += minus_all([box], found)
    return found


def _kinds(ways: WaysOut, tunnel: Meant, way: Way, box: Box, devices: set[int]) -> Iterator[tuple[str, Box]]:
    """A box by what has to be so for its packets."""
    space = ways.space
    if way.device in devices:
        # A program that names the device of another tunnel gets it.
        unbound = space.partition(BOUND).mask_of(Condition.equals(BOUND, 0))
        yield (WRONG_TUNNEL if space.of(box, BOUND) & unbound else BY_DEVICE), box
        return
    if way.is_copy:
        yield COPY, box
        return
    own = space.of(box, ENTRY) & space.partition(ENTRY).mask_of(Condition.equals(ENTRY, OWN))
    gateways = [one for one in tunnel.gateways if one.version == ways.routing.version]
    known = [found for one in gateways if (found := space.box((to(one),))) is not None]
    for part in minus_all([box], known):
        unbound = space.partition(BOUND).mask_of(Condition.equals(BOUND, 0))
        ordinary = ORDINARY if own else PASSED_ON
        yield (ordinary if space.of(part, BOUND) & unbound else BY_DEVICE), part
    for one in known:
        met = meet(box, one)
        if met is not None:
            yield GATEWAY, met


def _beside(ways: WaysOut, key: tuple[str, int, tuple[str, ...], str], boxes: list[Box]) -> Beside:
    kind, device, why, tunnel = key
    routing = ways.routing
    words = box_words(ways.space, hull(boxes), routing.devices, routing.version)
    name = routing.devices.get(device, str(device))
    return Beside(routing.version, words, name, "; ".join(dict.fromkeys(part for part in why if part)), kind, tunnel)
