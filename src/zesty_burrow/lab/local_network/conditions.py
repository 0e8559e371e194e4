"""Loss, delay and rate of the workstation's wire, in the router's own code: no kernel needs a module for it.

What the workstation sends is taken from the wire before the router sees it, and handed to the router later through a
tunnel device; what goes to the workstation is routed into that device, and put on the wire later.
"""

from __future__ import annotations

import asyncio
import os
import random
import socket
from collections.abc import Callable
from contextlib import suppress
from ipaddress import ip_address

from zesty_burrow.core.net import UDP
from zesty_burrow.host.netlink import Netlink, Route
from zesty_burrow.host.netlink_messages import APPEND, CREATE, nest, text
from zesty_burrow.host.packet_filter import expressions as x
from zesty_burrow.host.packet_filter.messages import DELETE_TABLE, NEW_CHAIN, NEW_RULE, NEW_TABLE, FilterSocket, number
from zesty_burrow.host.packet_filter.source_translation import translate_source
from zesty_burrow.host.tun import TunDevice, open_tun
from zesty_burrow.lab.local_network.packets import ETHERNET, ICMPV6, IPV4_TYPE, IPV6_TYPE
from zesty_burrow.records import dataclass

NETDEV, INGRESS, DEVICE_ATTRIBUTE = 5, 0, 3
"""nf_tables: the family of single devices, their hook for what arrives, and which device it is."""
ALL_PROTOCOLS, PACKET_OUTGOING = 3, 4
FRAME_PROTOCOL = 1
"""NFT_META_PROTOCOL."""
MAIN = 254
PREFIX = "wire"
QUEUE_SECONDS = 0.2
"""A packet that would have to wait longer for its turn is lost, as in a router's queue."""
RECEIVE_ROOM = 8 << 20
WITHOUT_OFFLOADS = frozenset({"device-tcp", "device-udp"})


@dataclass(frozen=True, slots=True)
class Conditions:
    """Each way: ``loss``: share of packets, 0 to 1; ``delay``: seconds; ``rate``: bits a second, 0: no limit."""

    loss: float = 0.0
    delay: float = 0.0
    rate: float = 0.0


class Direction:
    """One way along the wire: what becomes of each packet, and when."""

    def __init__(self, conditions: Conditions, deliver: Callable[[bytes], None], dice: random.Random) -> None:
        self._conditions = conditions
        self._deliver = deliver
        self._dice = dice
        self._free_at = 0.0

    def when(self, size: int, now: float) -> float | None:
        """The time at which a packet of ``size`` octets arrives that is sent at ``now``; None: it is lost."""
        wanted = self._conditions
        if wanted.loss and self._dice.random() < wanted.loss:
            return None
        sent = now
        if wanted.rate:
            begin = max(now, self._free_at)
            if begin - now > QUEUE_SECONDS:
                return None
            sent = self._free_at = begin + 8 * size / wanted.rate
        return sent + wanted.delay

    def take(self, packet: bytes) -> None:
        """A packet is sent now."""
        loop = asyncio.get_running_loop()
        moment = self.when(len(packet), loop.time())
        if moment is not None:
            loop.call_at(moment, self._deliver, packet)


class ConditionedWire:
    """The wire of a device under conditions, from :meth:`start` to :meth:`stop`, inside an event loop."""

    def __init__(self, device: str, hosts: tuple[str, ...], public: str, conditions: Conditions) -> None:
        self._device = device
        self._table = f"wire-{device}"
        self._hosts = hosts
        self._public = public
        dice = random.Random(0)  # noqa: S311
        self._inward = Direction(conditions, self._to_router, dice)
        self._outward = Direction(conditions, self._to_wire, dice)
        self._tun: TunDevice | None = None
        self._channel = socket.socket(socket.AF_PACKET, socket.SOCK_RAW | socket.SOCK_NONBLOCK, 0)
        self._other_end = b""

    def start(self) -> None:
        """Raises :class:`MachineError` where there is no tunnel device or packet filter."""
        self._channel.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, RECEIVE_ROOM)
        self._tun = open_tun(PREFIX, WITHOUT_OFFLOADS)
        with Netlink() as netlink:
            netlink.set_link(self._tun.name, state="up", mtu=1500)
            for host in self._hosts:
                # More specific than the network that the wire is in.
                netlink.add_route(Route(f"{host}/{ip_address(host).max_prefixlen}", MAIN, self._tun.name))
        translate_source(self._tun.name, self._public, self._table)
        self._channel.bind((self._device, ALL_PROTOCOLS))
        _hold_arriving(self._device, self._table)
        loop = asyncio.get_running_loop()
        loop.add_reader(self._channel, self._arrived)
        loop.add_reader(self._tun.descriptor, self._routed)

    def stop(self) -> None:
        """The wire is as it was; what was on its way is lost."""
        loop = asyncio.get_running_loop()
        loop.remove_reader(self._channel)
        self._channel.close()
        tun, self._tun = self._tun, None
        if tun is not None:
            loop.remove_reader(tun.descriptor)
            tun.close()
        own = text(1, self._table)
        FilterSocket().transact(NETDEV, [(NEW_TABLE, CREATE, own), (DELETE_TABLE, 0, own)], "opening the wire")

    def _arrived(self) -> None:
        with suppress(BlockingIOError):
            while True:
                frame, source = self._channel.recvfrom(65536)
                if source[2] == PACKET_OUTGOING or not _is_held(frame):
                    continue
                self._other_end = frame[6:12]
                self._inward.take(frame[ETHERNET:])

    def _routed(self) -> None:
        with suppress(BlockingIOError):
            while self._tun is not None:
                self._outward.take(os.read(self._tun.descriptor, 65536))

    def _to_router(self, packet: bytes) -> None:
        if self._tun is not None:
            self._tun.write([packet])

    def _to_wire(self, packet: bytes) -> None:
        if self._tun is None or not self._other_end:
            return
        kind = IPV4_TYPE if packet[0] >> 4 == 4 else IPV6_TYPE
        own = self._channel.getsockname()[4]
        with suppress(OSError):
            self._channel.send(self._other_end + own + kind.to_bytes(2) + packet)


def _is_held(frame: bytes) -> bool:
    """Whether :func:`_hold_arriving` keeps a frame from the router: IP, but for DHCP and neighbour discovery."""
    kind, packet = int.from_bytes(frame[12:14]), frame[ETHERNET:]
    if kind == IPV4_TYPE:
        return len(packet) >= 24 and not (packet[9] == UDP and packet[22:24] == b"\0\x43")
    return kind == IPV6_TYPE and len(packet) >= 40 and not (packet[6] == ICMPV6 and packet[7] == 255)


def _hold_arriving(device: str, table: str) -> None:
    """The router itself does not see what arrives, but for DHCP and neighbour discovery."""
    own = text(1, table)
    hook = nest(4, number(1, INGRESS), number(2, 0), text(DEVICE_ATTRIBUTE, device))

    def rule(*steps: bytes) -> tuple[int, int, bytes]:
        return NEW_RULE, CREATE | APPEND, own + text(2, "arriving") + nest(4, *steps)

    def of_kind(kind: int) -> bytes:
        return x.about(FRAME_PROTOCOL, kind.to_bytes(2))

    FilterSocket().transact(
        NETDEV,
        [
            (NEW_TABLE, CREATE, own),
            (NEW_CHAIN, CREATE, own + text(3, "arriving") + hook + text(7, "filter")),
            rule(of_kind(IPV4_TYPE), x.to_port(UDP, 67), x.verdict(x.ACCEPT)),
            rule(of_kind(IPV4_TYPE), x.verdict(x.DROP)),
            rule(of_kind(IPV6_TYPE), x.of_protocol(ICMPV6), x.hop_limit(255), x.verdict(x.ACCEPT)),
            rule(of_kind(IPV6_TYPE), x.verdict(x.DROP)),
        ],
        "holding the wire",
    )
