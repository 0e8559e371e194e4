"""What a data path does by choice."""

from __future__ import annotations

from dataclasses import dataclass

LONGEST = 65535
"""Octets of the longest packet."""
OFFLOADS = {
    "device-tcp": "TCP in large pieces to and from the tunnel device",
    "device-udp": "UDP in large pieces to and from the tunnel device",
    "socket-send": "many datagrams to the network by one call",
    "socket-receive": "many datagrams from the network by one call",
}
"""What is used where the kernel has it."""
FAST_PATH = "fast-path"
CAN_BE_DISABLED = {**OFFLOADS, FAST_PATH: "packets by compiled loops, from when a tunnel carries much"}


@dataclass(frozen=True, slots=True)
class PathOptions:
    """``dscp``: of the outer header, None as the inner has it; ``clamp``: lower TCP's MSS to what fits."""

    dscp: int | None = 0
    clamp: bool = False
