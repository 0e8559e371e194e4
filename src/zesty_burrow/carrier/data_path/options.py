"""What a data path does by choice."""

from __future__ import annotations

from zesty_burrow.records import dataclass

MAX_PACKET = 65535
"""Octets of the longest packet."""
OFFLOADS = {
    "device-tcp": "TCP segmentation offload of the tunnel device",
    "device-udp": "UDP segmentation offload of the tunnel device",
    "socket-send": "UDP segmentation offload of the socket (send)",
    "socket-receive": "UDP receive offload of the socket",
}
"""What is used where the kernel has it."""
FAST_PATH = "fast-path"
PACKET_WATCH = "packet-watch"
CAN_BE_DISABLED = {
    **OFFLOADS,
    FAST_PATH: "compiled loops, used once a tunnel carries much",
    PACKET_WATCH: "the watch of what leaves by outer devices",
}


@dataclass(frozen=True, slots=True)
class PathOptions:
    """``dscp``: of the outer header, None as the inner has it; ``clamp``: lower TCP's MSS to what fits."""

    dscp: int | None = 0
    clamp: bool = False
