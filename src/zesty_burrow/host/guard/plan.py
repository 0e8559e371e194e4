"""What the guard lets through, as values: nothing is changed here.

Each tunnel has a share: the networks that it holds closed, and what of them may leave nevertheless. The user may have
one as well, without a tunnel. All shares together are what is in force.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from ipaddress import ip_address, ip_network
from itertools import chain
from typing import TYPE_CHECKING, Any, NamedTuple

from zesty_burrow.core.net import Address, LocalNetwork, Network, collapse
from zesty_burrow.records import asdict, dataclass, replace

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Traffic

MARK = 0x5A420001
"""Of the packets that a tunnel's own sockets send (SO_MARK). Since Linux 5.17 CAP_NET_RAW is enough to set it, so the
mark opens nothing by itself: the user who has opened the socket has to be the guard's as well.
"""
EVERYTHING = (ip_network("0.0.0.0/0"), ip_network("::/0"))
ANY_PORT = 0


class Opening(NamedTuple):
    """Where the tunnels' own sockets, and nobody else, may send to.

    ``port``: :data:`ANY_PORT` also for a protocol that has none.
    """

    address: Address
    protocol: int
    port: int


class Peer(NamedTuple):
    """The other end of a session that is not to be cut: answers from a TCP port of this machine pass to it."""

    address: Address
    port: int


class Server(NamedTuple):
    """A name server, and the device by which it is asked."""

    device: str
    address: Address


@dataclass(frozen=True, slots=True)
class Share:
    """``held``: networks whose traffic leaves only as listed here; empty for a tunnel without a guard, which still has
    to pass where another's holds. ``local``: reached beside the tunnel, as is ``left_out``. ``inside``: single
    networks and addresses that belong in the tunnel: a local network that overlaps one of them is not let through for
    anybody. ``peers``: whose sessions are not cut. ``confirm_by``: seconds of CLOCK_BOOTTIME
    until which the user has to confirm, or the share is dropped; 0: no confirmation is waited for.

    ``since``: ISO 8601; ``what``: the profile's name; ``journal``: the path of its tunnel's journal, empty for a share
    of the user's; ``why``: in words, why its tunnel is not up.
    """

    held: tuple[Network, ...]
    since: str
    what: str = ""
    journal: str = ""
    why: str = ""
    devices: tuple[str, ...] = ()
    openings: tuple[Opening, ...] = ()
    servers: tuple[Server, ...] = ()
    local: tuple[LocalNetwork, ...] = ()
    left_out: tuple[Network, ...] = ()
    inside: tuple[Network, ...] = ()
    peers: tuple[Peer, ...] = ()
    confirm_by: float = 0.0

    def closed(self, why: str) -> Share:
        """Without its tunnel; what it holds stays closed."""
        return replace(self, why=why, devices=(), openings=(), servers=())

    def covers(self, other: Share) -> bool:
        """Whether all that another share holds is held by this one."""
        return all(_within(network, self.held) for network in other.held)

    def document(self) -> dict[str, Any]:
        return asdict(self, dict_factory=lambda rows: {key: _plain(value) for key, value in rows})

    @classmethod
    def of(cls, document: Mapping[str, Any]) -> Share:
        """From what ``document`` gave and JSON carried. ``ValueError``, ``KeyError`` or ``TypeError`` for others."""
        return cls(
            tuple(ip_network(one) for one in document["held"]),
            str(document["since"]),
            str(document["what"]),
            str(document["journal"]),
            str(document["why"]),
            tuple(map(str, document["devices"])),
            tuple(Opening(ip_address(a), int(protocol), int(port)) for a, protocol, port in document["openings"]),
            tuple(Server(str(device), ip_address(address)) for device, address in document["servers"]),
            tuple(LocalNetwork(str(device), ip_network(one)) for device, one in document["local"]),
            tuple(ip_network(one) for one in document["left_out"]),
            tuple(ip_network(one) for one in document.get("inside", ())),
            tuple(Peer(ip_address(address), int(port)) for address, port in document.get("peers", ())),
            float(document.get("confirm_by", 0.0)),
        )


def held_by(traffic: Traffic) -> tuple[Network, ...]:
    """What of a profile's traffic leaves by its tunnel alone: with all IPv4 traffic also IPv6, if it is not to be left
    outside.
    """
    if traffic.ipv6 == "outside":
        return tuple(network for network in traffic.networks if network.version == 4)
    closed = EVERYTHING[1:] if traffic.everything or traffic.ipv6 == "block" else ()
    return tuple(collapse((*traffic.networks, *closed)))


def _plain(value: Any) -> Any:
    if isinstance(value, tuple | list):
        return [_plain(one) for one in value]
    return value if isinstance(value, int | float) else str(value)


def _within(network: Network, held: Iterable[Network]) -> bool:
    return any(network.version == one.version and network.subnet_of(one) for one in held)  # type: ignore[arg-type]


def together(shares: Iterable[Share]) -> Share:
    """All shares as one: held is what any of them holds, open what any of them opens.

    What is reached beside the tunnels is open only where each share that holds it opens it: one tunnel does not open
    what another closes. A local network never wins over what belongs in any tunnel.
    """
    known = list(shares)
    inside = _all(share.inside for share in known)
    return Share(
        held=tuple(collapse(list(chain.from_iterable(share.held for share in known)))),
        since=min((share.since for share in known), default=""),
        devices=_all(share.devices for share in known),
        openings=_all(share.openings for share in known),
        servers=_all(share.servers for share in known),
        local=tuple(
            network
            for network in _all(share.local for share in known)
            if _open_to_all(network.network, known) and not overlaps(network.network, inside)
        ),
        left_out=tuple(one for one in _all(share.left_out for share in known) if _open_to_all(one, known)),
        inside=inside,
        peers=_all(share.peers for share in known),
    )


def overlaps(network: Network, others: Iterable[Network]) -> bool:
    """Whether a network has an address in common with one of the others."""
    return any(network.version == other.version and network.overlaps(other) for other in others)


def _open_to_all(network: Network, shares: Iterable[Share]) -> bool:
    return all(
        _within(network, [*(one.network for one in share.local), *share.left_out])
        or not any(network.overlaps(one) for one in share.held)
        for share in shares
    )


def _all(groups: Iterable[Iterable[Any]]) -> tuple[Any, ...]:
    """What is in any of them, each once, in order."""
    return tuple(dict.fromkeys(chain.from_iterable(groups)))
