"""Which of the networks that this machine is in are reached beside a tunnel, and why the others are not.

The owner of a local network decides which addresses it claims: by DHCP, or by a router's advertisement (RFC 4861
§4.6.2). So a claim alone opens nothing. Values only.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from ipaddress import ip_network

from zesty_burrow.core.net import Address, LocalNetwork, Network
from zesty_burrow.records import dataclass

LOCAL_SCOPES = tuple(
    map(ip_network, ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "169.254.0.0/16", "fc00::/7", "fe80::/10"))
)
"""RFC 1918, RFC 3927, RFC 4193, RFC 4291 §2.5.6."""
MAX_LOCAL = 64
WIDE = {4: 7, 6: 16}
"""Prefix lengths up to which a network takes much of all addresses: it names no place of its own."""


@dataclass(frozen=True, slots=True)
class LocalTrust:
    """``kept``: reached beside the tunnel. ``public``: not, as their addresses belong to the internet and nobody has
    named them; ``overlapping``: not, as they claim addresses that belong in the tunnel; ``too_many``: not, as there
    are more.
    """

    kept: tuple[LocalNetwork, ...] = ()
    public: tuple[LocalNetwork, ...] = ()
    overlapping: tuple[LocalNetwork, ...] = ()
    too_many: tuple[LocalNetwork, ...] = ()


def is_local(network: Network) -> bool:
    """Whether its addresses can be those of a local network alone."""
    return any(network.version == one.version and network.subnet_of(one) for one in LOCAL_SCOPES)  # type: ignore[arg-type]


def judge_local(
    networks: Iterable[LocalNetwork], named: Sequence[Network] = (), inside: Sequence[Network] = ()
) -> LocalTrust:
    """``named``: public networks that the profile or the user takes for local ones, as a whole; ``inside``: what
    belongs in the tunnel (:func:`places`).
    """
    kept: list[LocalNetwork] = []
    public: list[LocalNetwork] = []
    overlapping: list[LocalNetwork] = []
    for one in dict.fromkeys(one for one in networks if one.device):
        if one.network.prefixlen <= WIDE[one.network.version] and not one.network.is_link_local:
            public.append(one)
        elif any(one.network.version == other.version and one.network.overlaps(other) for other in inside):
            overlapping.append(one)
        elif is_local(one.network) or one.network in named:
            kept.append(one)
        else:
            public.append(one)
    return LocalTrust(tuple(kept[:MAX_LOCAL]), tuple(public), tuple(overlapping), tuple(kept[MAX_LOCAL:]))


def places(networks: Iterable[Network], addresses: Iterable[Address] = ()) -> tuple[Network, ...]:
    """The networks that name a place, without those that mean everything, and single addresses."""
    found = [network for network in networks if network.prefixlen > WIDE[network.version]]
    return tuple(dict.fromkeys((*found, *(ip_network(address) for address in addresses))))
