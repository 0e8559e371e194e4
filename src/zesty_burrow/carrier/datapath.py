"""The data path: packets between the tunnel device and ESP in UDP (RFC 3948), in batches both ways.

Device and socket say what they can; what is missing is done without.
"""

from __future__ import annotations

from zesty_burrow.carrier import loops
from zesty_burrow.carrier.habits import Habits
from zesty_burrow.carrier.inward import Inward
from zesty_burrow.carrier.loops import Loops
from zesty_burrow.carrier.outward import Outward, Route
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.tunnel import Tunnel
from zesty_burrow.carrier.waiter import running_waiter
from zesty_burrow.carrier.way import BY_COLUMNS, Beside, Told, Way
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.host.tun import TunDevice
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

OFFLOADS = {
    "device-tcp": "TCP in large pieces to and from the tunnel device",
    "device-udp": "UDP in large pieces to and from the tunnel device",
    "socket-send": "many datagrams to the network by one call",
    "socket-receive": "many datagrams from the network by one call",
}
"""What is used where the kernel has it."""
MAY_BE_LEFT_OUT = {**OFFLOADS, loops.NAME: "the loops over packets as machine code, from when a tunnel carries much"}
ESP_AT_MOST = 37
"""Octets that ESP with a combined-mode cipher adds: SPI, number, IV, padding, its length, next header, ICV."""
TCP_HEADERS, KERNEL_RESERVE = 52, 384
"""IPv4 and TCP with its time stamps; and what the kernel keeps for headers when it sizes a piece."""


def offloads_in_use(device: TunDevice, port: UdpPort) -> tuple[str, ...]:
    """Those of ``OFFLOADS`` that device and socket have agreed to."""
    used = {
        "device-tcp": TCP in device.joins,
        "device-udp": UDP in device.joins,
        "socket-send": port.splits,
        "socket-receive": port.joins,
    }
    return tuple(name for name in OFFLOADS if used[name])


def largest_piece(mtu: int) -> int:
    """Octets of many segments that the kernel should hand over at most: what goes out again by one call."""
    segments = min(SEGMENTS, ROOM_IN_PIECE // (mtu + ESP_AT_MOST))
    return segments * (mtu - TCP_HEADERS) + KERNEL_RESERVE


class DataPath:
    """One tunnel device, and the tunnels behind it. ``route`` chooses among them for what goes out.

    ``told`` hears of what is carried without :meth:`outbound_ready` and :meth:`inbound`, from within the wait for more.
    """

    def __init__(
        self,
        device: TunDevice,
        mtu: int,
        route: Route,
        habits: Habits | None = None,
        without: frozenset[str] = frozenset(),
        told: Told = lambda sent, heard: None,
    ) -> None:
        self.mtu = mtu
        self._ends = device, mtu, habits or Habits()
        self._route, self._told = route, told
        self._outward, self._inward = self._make(BY_COLUMNS)
        self._beside: Beside | None = None
        self.loops = Loops(self.use, left_out=loops.NAME in without)

    def _make(self, way: Way) -> tuple[Outward, Inward]:
        return Outward(*self._ends, way.works, self._route), Inward(*self._ends, way.works)

    def use(self, way: Way) -> None:
        """Work in this way from now on."""
        outward, inward = self._outward, self._inward
        self._outward, self._inward = self._make(way)
        self._outward.turned_away, self._inward.turned_away = outward.turned_away, inward.turned_away
        self._inward.unknown, self._inward.by_spi = inward.unknown, inward.by_spi
        self.close()
        if way.beside is not None:
            self._beside = way.beside(running_waiter(), self._outward, self._inward, self._told)
        for tunnel in self._inward.by_spi.values():
            self._serve(tunnel)

    def close(self) -> None:
        """Carry nothing beside Python any more."""
        if self._beside is not None:
            self._beside.stop()
            self._beside = None

    def _serve(self, tunnel: Tunnel) -> None:
        if self._beside is not None:
            self._beside.serve(tunnel.port)

    @property
    def unknown(self) -> int:
        """Packets with an SPI that is nobody's."""
        return self._inward.unknown

    @property
    def turned_away(self) -> int:
        """Packets that the selectors do not allow, or that are too long, or not what the device says of them."""
        return self._outward.turned_away + self._inward.turned_away

    def carry(self, tunnel: Tunnel) -> None:
        """Take what comes by a tunnel's SPIs, as they are now."""
        self._inward.by_spi.update(dict.fromkeys(tunnel.flows, tunnel))
        self._serve(tunnel)
        self.choose_again()

    def forget(self, spi: int) -> None:
        """Take nothing by this SPI any more."""
        self._inward.by_spi.pop(spi, None)
        self.choose_again()

    def forget_tunnel(self, tunnel: Tunnel) -> None:
        """Take nothing by any of a tunnel's SPIs."""
        for spi in [spi for spi, one in self._inward.by_spi.items() if one is tunnel]:
            del self._inward.by_spi[spi]
        self.choose_again()

    def choose_again(self) -> None:
        """``route`` may answer otherwise from now on."""
        self._outward.choose_again()
        if self._beside is not None:
            self._beside.forget()

    def outbound_ready(self) -> int:
        """Seal and send what the device has; the number of packets."""
        sent = self._beside.left_over() if self._beside is not None else 0
        sent = sent or self._outward.send()
        self.loops.carried(sent)
        return sent

    def inbound(self, burst: Burst, port: UdpPort) -> tuple[list[Tunnel], list[bytes]]:
        """Open what has come to the encapsulation port, and hand it to the device.

        The tunnels by which something authentic came, and the datagrams that are not ESP (RFC 3948 §2.2).
        """
        self.loops.carried(burst.total // burst.size)
        heard, others = self._inward.take(burst, port)
        if self._beside is not None and heard:
            self._beside.came(burst, port, heard)
        return heard, others
