"""A look at what leaves the lab's workstation, on the router's end of its wire."""

from __future__ import annotations

import json
import os
import socket
import time
from collections import Counter
from typing import BinaryIO

from zesty_burrow.errors import MachineError
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.wire.frames import KINDS, describe_frame
from zesty_burrow.records import dataclass

HOST, DEVICE = "cobblewire", "cottage"
ALL_PROTOCOLS = 3
"""ETH_P_ALL of Linux ``if_ether.h``."""
MAX_ROWS = 200
"""Different things that are counted each by itself; more are counted together."""
REST = "others"


@dataclass(frozen=True, slots=True)
class Seen:
    """One kind of frames, with their particulars."""

    kind: str
    what: str
    packets: int
    octets: int


def watch(client: LabClient, seconds: float) -> list[Seen]:
    """What the workstation has sent in so many seconds."""
    reading, writing = os.pipe()

    def look() -> int:
        os.close(reading)
        with os.fdopen(writing, "wb") as stream:
            _capture(seconds, stream)
        return 0

    code = client.call(HOST, look)
    os.close(writing)
    with os.fdopen(reading, "rb") as stream:
        octets = stream.read()
    if code or not octets:
        raise MachineError("the lab's wire cannot be read", why=f"the process that reads it ended with {code}")
    rows = [Seen(*row) for row in json.loads(octets)]
    return sorted(rows, key=lambda row: (KINDS.index(row.kind), -row.packets, row.what))


def _capture(seconds: float, stream: BinaryIO) -> None:
    packets: Counter[tuple[str, str]] = Counter()
    octets: Counter[tuple[str, str]] = Counter()
    until = time.monotonic() + seconds
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL_PROTOCOLS)) as channel:
        channel.bind((DEVICE, 0))
        while (left := until - time.monotonic()) > 0:
            channel.settimeout(left)
            try:
                frame, source = channel.recvfrom(65536)
            except TimeoutError:
                break
            if source[2] == socket.PACKET_OUTGOING:
                continue  # the router's own
            row = describe_frame(frame)
            if row not in packets and len(packets) >= MAX_ROWS:
                row = row[0], REST
            packets[row] += 1
            octets[row] += len(frame)
    stream.write(json.dumps([[*row, count, octets[row]] for row, count in packets.items()]).encode())
