"""Changes of the packet filter as the kernel tells of them, with the process that has made each."""

from __future__ import annotations

import socket

from zesty_burrow.host.netlink_messages import ROOM, attributes, split
from zesty_burrow.host.packet_filter.messages import NEW_GENERATION, SUBSYSTEM
from zesty_burrow.host.watches.address_changes import open_filter_watch
from zesty_burrow.records import dataclass

PROCESS, NAME = 2, 3
"""NFTA_GEN_PROC_PID, NFTA_GEN_PROC_NAME (linux/netfilter/nf_tables.h)."""
MAX_READS = 1000


@dataclass(frozen=True, slots=True)
class FilterChange:
    """``process``: its number, 0 where it is not known; ``name``: what the kernel calls it."""

    process: int
    name: str

    @property
    def words(self) -> str:
        """Process and name for people."""
        return f"{self.name or 'a process'} ({self.process})" if self.process else ""


class FilterWatch:
    """``channel`` becomes readable when any program has changed the packet filter of this network namespace."""

    def __init__(self) -> None:
        self.channel: socket.socket = open_filter_watch()
        self.channel.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, ROOM)

    def take_changes(self) -> list[FilterChange]:
        """Each change since the last call; one of an unknown process where the kernel had to leave some out."""
        changes = []
        for _ in range(MAX_READS):
            try:
                received = self.channel.recv(65536)
            except BlockingIOError:
                break
            except OSError:
                changes.append(FilterChange(0, ""))
                continue
            for kind, content in split(received):
                if kind == SUBSYSTEM << 8 | NEW_GENERATION:
                    values = attributes(content[4:])
                    process = int.from_bytes(values.get(PROCESS, b""))
                    name = values.get(NAME, b"").rstrip(b"\0").decode("utf-8", "replace")
                    changes.append(FilterChange(process, name))
        return changes
