"""Sending datagrams by a device with the packet watch at it, beside sending them without; none may go unexplained."""

from __future__ import annotations

import ast
import os
import socket
import sys
import time
from collections.abc import Iterator
from ipaddress import ip_address, ip_network
from pathlib import Path

COUNT = 500_000
GATEWAY = "192.168.1.9"


def _rounds(rounds: int) -> tuple[list[float], list[float]]:
    from host.random_routing import ip, make_devices
    from zesty_burrow.core.ways_out.beside import Allowed, by_ports, to
    from zesty_burrow.core.ways_out.capture_filter import WatchedPackets
    from zesty_burrow.host.guard.plan import MARK
    from zesty_burrow.host.netlink import Netlink
    from zesty_burrow.host.packet_watch.watch import PacketWatch, WatchedDevice

    make_devices()
    ip([f"neigh replace {GATEWAY} lladdr 02:00:00:00:00:01 dev out nud permanent"])
    # As many allowances as a usual machine has, the tunnel's own last.
    others = tuple(Allowed("left out", "", ((to(ip_network(f"10.{number}.0.0/16")),),)) for number in range(12))
    own = Allowed("tunnel", "", ((to(ip_address(GATEWAY)), *by_ports(17, 4500)),))
    watched = WatchedPackets((ip_network("0.0.0.0/0"),), {4: (*others, own), 6: ()})
    with Netlink() as netlink:
        device = WatchedDevice(netlink.index("out"), "out", True)
    channel = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, MARK)
    channel.connect((GATEWAY, 4500))
    data, ours, base = bytes(1400), [], []

    def send() -> float:
        began = time.perf_counter()
        for _ in range(COUNT):
            channel.send(data)
        return time.perf_counter() - began

    send()
    for _ in range(rounds):
        base.append(send())
        watch = PacketWatch(watched, [device])
        watch.open()
        ours.append(send())
        watch.read()
        seen = watch.result()
        watch.close()
        if seen.packets or seen.lost:
            raise RuntimeError(f"{seen.packets} packets were not explained, {seen.lost} captures dropped")
    return ours, base


def measure(rounds: int) -> Iterator[tuple[str, list[float], list[float], str]]:
    """In a network namespace of its own."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support import in_a_network_of_its_own

    ends = os.pipe()

    def act() -> None:
        os.write(ends[1], repr(_rounds(rounds)).encode())

    in_a_network_of_its_own(act)
    ours, base = ast.literal_eval(os.read(ends[0], 1 << 16).decode())
    yield f"sending {COUNT} datagrams under the packet watch", ours, base, "without it"
