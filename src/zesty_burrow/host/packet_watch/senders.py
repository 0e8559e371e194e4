"""Which process has sent a packet, as far as the kernel can tell: by its socket, while that is open."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import ip_address
from pathlib import Path
from typing import NamedTuple

from zesty_burrow.core.ways_out.packet import SeenPacket
from zesty_burrow.host.guard.plan import MARK
from zesty_burrow.host.ways_out.sockets import SocketRow, processes_of, sockets

NETWORK = Path("/proc/self/net")
ICMP, ICMPV6 = 1, 58
FEWEST_MOST = 3
"""More processes than that are not named: any of them may be it."""


class Sender(NamedTuple):
    """``process``: name and number, or several that may be it; empty where it is not known. ``user``: or below 0."""

    process: str = ""
    user: int = -1


class Senders:
    """Looks senders up."""

    def of(self, packet: SeenPacket, device: int) -> Sender:
        """The socket that has this port, or else those that can send packets of any kind by this device."""
        known = list(sockets())
        rows = {row.inode: row.user for row in known if _fits(row, packet, device)}
        # The tunnels' own processes, which watch as well: by the mark of their sockets.
        own = {row.inode for row in known if row.mark == MARK}
        return _named(rows, own) if rows else _named(dict(_others(packet, device)), own, sure=False)


def _named(inodes: dict[int, int], own: set[int], *, sure: bool = True) -> Sender:
    names = processes_of(inode for inode in (*inodes, *own) if inode)
    left_out = {names[inode] for inode in own if inode in names}
    found = {names[inode] for inode in inodes if inode in names}
    words = sorted(name for name in found - left_out if not name.endswith(f"({os.getpid()})"))
    if not words or len(words) > FEWEST_MOST:
        return Sender()
    users = set(inodes.values())
    return Sender(" or ".join(words), users.pop() if len(users) == 1 and sure else -1)


def _fits(row: SocketRow, packet: SeenPacket, device: int) -> bool:
    if row.protocol != packet.protocol or row.local[1] != packet.source_port or packet.is_piece:
        return False
    if row.device not in (0, device):
        return False
    # Any IPv4 address fits a socket for both versions.
    local = ip_address(row.local[0])
    return int(local) in (0, packet.source) or (local.version == 6 and packet.version == 4)


def _others(packet: SeenPacket, device: int) -> Iterator[tuple[int, int]]:
    """Inode and user of sockets for pings, for raw packets and for frames."""
    files = ["raw", "raw6"]
    if packet.protocol in (ICMP, ICMPV6):
        files += ["icmp", "icmp6"]
    for name in files:
        for words in _rows(name):
            with suppress(ValueError, IndexError):
                yield int(words[9]), int(words[7])
    for words in _rows("packet"):
        with suppress(ValueError, IndexError):
            if int(words[4]) in (0, device):
                yield int(words[8]), int(words[7])


def _rows(name: str) -> Iterator[list[str]]:
    with suppress(OSError):
        lines = (NETWORK / name).read_text().splitlines()[1:]
        yield from (line.split() for line in lines)
