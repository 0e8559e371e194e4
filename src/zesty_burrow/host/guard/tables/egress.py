"""The guard at each outer device (family netdev, Linux 5.16 and later): for what bypasses the IP stack's own hooks.

Packet sockets, macvlan guests, bridged guests and other network namespaces hand their frames to a device directly. Each
device's chain applies the allow-list to the frame as it is about to leave, fragments one by one. The type of a frame is
read from its octets as well: a packet socket may claim another one than it sends.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from zesty_burrow.host.guard.plan import EVERYTHING, MARK, Share
from zesty_burrow.host.guard.presence import TABLE
from zesty_burrow.host.guard.tables.allow_list import (
    ACCEPT,
    COUNTERS,
    DROPPED,
    LEFT_OUT,
    LOCAL,
    NEIGHBOURS,
    PORTAL_USERS,
    AllowedPackets,
    checked_rules,
    rows_beside,
    tunnel_rows,
)
from zesty_burrow.host.guard.tables.rules import LAST, checked, end_of
from zesty_burrow.host.guard.tables.surroundings import OuterDevice, Surroundings
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.messages import NETDEV
from zesty_burrow.host.packet_filter.table import Chain, Hook, TableSpec

EGRESS = 1
IPV4_FRAME, IPV6_FRAME, ARP_FRAME, VLAN_FRAME = 0x0800, 0x86DD, 0x0806, 0x8100
FRAMES = {4: IPV4_FRAME, 6: IPV6_FRAME}
PPPOE_FRAMES = (0x8863, 0x8864)
"""RFC 2516 §4."""
SIGN_IN_FRAMES = (0x888E, 0x88C7)
"""IEEE 802.1X and 802.11 pre-authentication: without them a wireless device loses its network."""
LINK_FRAMES = (0x8809, 0x88CC)
"""IEEE 802.3 slow protocols (bonds), 802.1AB: to addresses that no bridge passes on."""
NEVER_PASSED_ON = b"\x01\x80\xc2\x00\x00"
OUTER = "outer"


def chain_of(device: str) -> str:
    """The base chain of a device."""
    return f"by_{device}"


def egress_table(share: Share, around: Surroundings, user: int) -> TableSpec:
    """One base chain a device. ``user``: who opens the tunnels' sockets."""
    rows = list(rows_beside(share, around.on_link))
    chains = {
        **{
            checked(counter, version): Chain(tuple(checked_rules(version, counter)))
            for counter in (LOCAL, LEFT_OUT)
            for version in (4, 6)
        },
        **{f"{OUTER}_ipv{version}": Chain(tuple(_openings(share, version))) for version in (4, 6)},
    }
    for device in around.devices:
        for version in (4, 6):
            chains[_packets(device, version)] = Chain(tuple(_by_device(rows, device, version, user)))
        chains[chain_of(device.name)] = Chain(tuple(_frames(share, device)), Hook(EGRESS, LAST, device.name))
    return TableSpec(NETDEV, TABLE, chains, COUNTERS, (PORTAL_USERS,))


def devices_with_chain(chains: Iterable[str]) -> list[str]:
    """The devices whose base chains are among the names of a table's chains."""
    prefix = chain_of("")
    return sorted(name.removeprefix(prefix) for name in chains if name.startswith(prefix))


def _packets(device: OuterDevice, version: int) -> str:
    return f"ipv{version}_{device.name}"


def _openings(share: Share, version: int) -> Iterator[bytes]:
    for row in tunnel_rows(share.openings, fragments=True):
        if row.version == version:
            yield row.match + x.count(row.counter) + ACCEPT


def _by_device(rows: list[AllowedPackets], device: OuterDevice, version: int, user: int) -> Iterator[bytes]:
    """Packets of one version of IP by one device."""
    own_socket = x.about(x.MARK, x.native(MARK)) + x.user_is(user)
    yield own_socket + x.verdict(x.JUMP, f"{OUTER}_ipv{version}")
    for row in rows:
        if row.version in (0, version) and (not row.device or row.device in device.networks):
            yield row.match + end_of(row)


def _frames(share: Share, device: OuterDevice) -> Iterator[bytes]:
    for version, kind in FRAMES.items():
        to_packets = x.verdict(x.JUMP, _packets(device, version))
        if not device.is_ethernet:
            yield x.of_frame_type(kind) + to_packets
            continue
        yield x.frame_type(kind) + x.of_frame_type(kind) + to_packets
        if device.vlans:
            yield x.frame_type(VLAN_FRAME) + x.frame_type(kind, 16) + x.of_frame_type(kind) + to_packets
    if device.is_ethernet:
        yield from (x.frame_type(kind) + x.count(NEIGHBOURS) + ACCEPT for kind in (ARP_FRAME, *SIGN_IN_FRAMES))
        for kind in LINK_FRAMES:
            to_neighbour = x.octets_are(x.LINK_HEADER, 0, NEVER_PASSED_ON)
            yield to_neighbour + x.frame_type(kind) + x.count(NEIGHBOURS) + ACCEPT
        if device.ppp:
            yield from (x.frame_type(kind) + x.count(NEIGHBOURS) + ACCEPT for kind in PPPOE_FRAMES)
    drop = x.count(DROPPED) + x.verdict(x.DROP)
    if all(network in share.held for network in EVERYTHING):
        # Of any type: what is not known to be harmless may carry anything.
        yield drop
        return
    for network in share.held:
        kind, target = FRAMES[network.version], x.destination(network)
        yield x.of_frame_type(kind) + target + drop
        if device.is_ethernet:
            yield x.frame_type(kind) + target + drop
