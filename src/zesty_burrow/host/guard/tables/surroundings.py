"""The devices by which packets could leave this machine, and the networks that it is in, as the kernel has them now."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_burrow.core.net import LocalNetwork
from zesty_burrow.host.netlink import Netlink, NetworkDevice
from zesty_burrow.records import dataclass

ARPHRD_ETHER, ARPHRD_PPP, ARPHRD_LOOPBACK = 1, 512, 772
"""Linux ``if_arp.h``."""
OWN_PREFIX, OWN_KIND = "zesty", "tun"
"""A tunnel's device of ours, by its name and its kind together."""


@dataclass(frozen=True, slots=True)
class OuterDevice:
    """``networks``: names of the devices whose networks are reached by it: itself, and those that stand on it (a bridge
    whose port it is, a VLAN, a macvlan). ``vlans``: VLAN devices stand on it; ``ppp``: PPP may (RFC 2516).
    """

    name: str
    is_ethernet: bool
    networks: tuple[str, ...]
    vlans: bool = False
    ppp: bool = False


@dataclass(frozen=True, slots=True)
class Surroundings:
    """``devices``: all that are neither the loopback device nor a tunnel of ours; ``on_link``: networks by device."""

    devices: tuple[OuterDevice, ...] = ()
    on_link: tuple[LocalNetwork, ...] = ()


def outer_devices(links: Iterable[NetworkDevice]) -> tuple[OuterDevice, ...]:
    """The devices that lead outside, in the order of their names."""
    known = [link for link in links if not _is_own(link)]
    by_number = {link.number: link for link in known}
    ppp = any(link.type == ARPHRD_PPP for link in known)
    found = []
    for link in sorted(known, key=lambda one: one.name):
        above = _above(link, known, by_number)
        names = (link.name, *sorted(one.name for one in above))
        is_ethernet = link.type == ARPHRD_ETHER
        vlans = any(one.kind == "vlan" and one.below == link.number for one in known)
        found.append(OuterDevice(link.name, is_ethernet, names, vlans, ppp and is_ethernet))
    return tuple(found)


def _is_own(link: NetworkDevice) -> bool:
    return link.type == ARPHRD_LOOPBACK or (link.name.startswith(OWN_PREFIX) and link.kind == OWN_KIND)


def _above(link: NetworkDevice, links: list[NetworkDevice], by_number: dict[int, NetworkDevice]) -> list[NetworkDevice]:
    """The devices that send by this one, directly or through others."""
    found: dict[int, NetworkDevice] = {}
    waiting = [link]
    while waiting:
        one = waiting.pop()
        direct = [other for other in links if other.below == one.number and other.kind != "veth"]
        direct += [by_number[one.master]] if one.master in by_number else []
        for other in direct:
            if other.number != link.number and other.number not in found:
                found[other.number] = other
                waiting.append(other)
    return list(found.values())


def look_around() -> Surroundings:
    """As the kernel has it at this moment. Raises :class:`MachineError`."""
    with Netlink() as netlink:
        return Surroundings(outer_devices(netlink.links()), tuple(dict.fromkeys(netlink.on_link_networks())))
