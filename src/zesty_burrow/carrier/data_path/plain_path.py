"""The plain path: packets between a tunnel device and tunnels, one by one. The fast path is checked against it."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence

from zesty_burrow.carrier.data_path.options import MAX_PACKET, PathOptions
from zesty_burrow.carrier.data_path.tunnel import FLUSH, PathTunnel, QueuedTunnel, Tunnel
from zesty_burrow.carrier.ports.udp_port import TOO_LONG, Burst, UdpPort
from zesty_burrow.core.net import TCP
from zesty_burrow.core.packets import encapsulation, offload_header, too_big
from zesty_burrow.core.packets.offload_header import Offload, read_offload
from zesty_burrow.core.packets.segmentation import packets_of
from zesty_burrow.errors import Malformed
from zesty_burrow.host.tun import TunDevice

AT_ONCE = 32
"""Reads from the device before the other direction gets its turn."""
KNOWN_ROUTES = 4096
CARRIED_IN = frozenset((encapsulation.CE, encapsulation.ECT1))


class PlainPath:
    """One tunnel device and the ``tunnels`` behind it; a packet goes out by the first that allows it.

    ``dropped``: packets that no tunnel allows, that are too long, or that are malformed; ``unknown``: datagrams with a
    label that is nobody's. ``by_label``: tunnels by the first four octets of their datagrams. ``queued``: tunnels whose
    packets travel in their sessions' messages.

    Each packet costs calls, which cost more here than anything else: so checks are written out where packets pass, and
    nothing is looked at twice.
    """

    def __init__(self, device: TunDevice, mtu: int, options: PathOptions) -> None:
        self.device, self.mtu, self.options = device, mtu, options
        self.tunnels: list[PathTunnel] = []
        self.queued: list[QueuedTunnel] = []
        self.by_label: dict[bytes, Tunnel] = {}
        self.dropped = self.unknown = 0
        self._waiting: list[PathTunnel] = []
        self._nothing = offload_header.NOTHING if device.header else b""
        self._routes: dict[bytes, PathTunnel | None] = {}

    def tunnels_changed(self) -> None:
        """Tunnels or their selectors have changed."""
        self._routes.clear()
        self.by_label = {
            label: tunnel for tunnel in self.tunnels if isinstance(tunnel, Tunnel) for label in tunnel.labels
        }
        self.queued = [tunnel for tunnel in self.tunnels if isinstance(tunnel, QueuedTunnel)]
        # A UDP socket's queue tells by itself.
        self._waiting = [tunnel for tunnel in self.tunnels if tunnel.waits and not tunnel.never_blocks]

    # From the device to the network.

    def send(self) -> int:
        """Seal and send what the device has; the number of packets."""
        sent, now, nothing = 0, time.monotonic(), self._nothing
        descriptor, header = self.device.descriptor, len(nothing)
        gathered = FLUSH
        for _ in range(AT_ONCE):
            if gathered >= FLUSH and self._waiting:
                # Nothing goes to a session before so much was gathered for it.
                if self.is_blocked:
                    break
                gathered = 0
            try:
                data = os.read(descriptor, MAX_PACKET + header)
            except OSError:
                # Nothing there; or the device is down for the moment.
                break
            gathered += len(data)
            if data[:header] == nothing:
                sent += self._send_one(data[header:], now)
            else:
                sent += self.send_packet(data[header:], read_offload(data[:header]), now)
        for one in self.queued:
            one.flush()
        return sent

    @property
    def is_blocked(self) -> bool:
        """Whether the device is better not read: packets of a tunnel that waits for its connection would only wait."""
        return any(tunnel.is_blocked for tunnel in self._waiting)

    def send_packet(self, packet: bytes, offload: Offload | None, now: float) -> int:
        """Send what one read has given: a packet, or many in one piece; how many went."""
        try:
            packets = packets_of(packet, offload)
        except Malformed:
            self.dropped += 1
            return 0
        return self._send_alike(packets, now) or sum(self._send_one(one, now) for one in packets)

    def _send_alike(self, packets: Sequence[bytes], now: float) -> int:
        """Segments of one piece by one call: what holds for the first holds for all. 0: they have to go one by one."""
        first = packets[0]
        tunnel = self.route(addresses_of(first)) if len(packets) > 1 else None
        if not isinstance(tunnel, Tunnel) or len(first) > min(self.mtu, tunnel.limit):
            return 0
        port, seal = tunnel.port, tunnel.channel.seal
        if not isinstance(port, UdpPort):
            return 0
        outer = encapsulation.outer_class(encapsulation.traffic_class(first), self.options.dscp)
        try:
            port.send_all([seal(packet, now) for packet in packets], tunnel.peer, outer)
        except OSError as problem:
            _not_sent(problem, tunnel)
        return len(packets)

    def _send_one(self, packet: bytes, now: float) -> int:
        size = len(packet)
        version = packet[0] >> 4 if size else 0
        if version == 4 and size >= 20:
            addresses, outer, protocol, flags = packet[12:20], packet[1], packet[9], (packet[0] & 0xF) * 4 + 13
        elif version == 6 and size >= 40:
            addresses, protocol, flags = packet[8:40], packet[6], 53
            outer = (packet[0] & 0xF) << 4 | packet[1] >> 4
        else:
            self.dropped += 1
            return 0
        tunnel = self._routes.get(addresses) or self.route(addresses)
        if tunnel is None:
            self.dropped += 1
            return 0
        options = self.options
        if options.clamp and protocol == TCP and flags < size and packet[flags] & encapsulation.SYN:
            packet = _clamped(packet, min(self.mtu, tunnel.limit))
        if options.dscp is not None:
            outer = encapsulation.outer_class(outer, options.dscp)
        if size > self.mtu or size > (tunnel.limit if tunnel.has_fixed_limit else tunnel.limit_of(packet)):
            return self._send_long(packet, tunnel, now, outer)
        try:
            tunnel.send(packet, now, outer)
        except OSError as problem:
            _not_sent(problem, tunnel)
        return 1

    def _send_long(self, packet: bytes, tunnel: PathTunnel, now: float, outer: int) -> int:
        """Whole where its family's limit allows it, cut where it may be; else its sender gets an ICMP error."""
        limit = min(tunnel.limit_of(packet), max(self.mtu, too_big.LEAST_IPV6))
        if len(packet) <= limit:
            parts = [packet]
        elif too_big.may_be_cut(packet):
            parts = too_big.cut(packet, limit)
        else:
            answer = too_big.too_big(packet, limit)
            if answer is not None:
                self.device.write([self._nothing + answer])
            self.dropped += 1
            return 0
        for part in parts:
            try:
                tunnel.send(part, now, outer)
            except OSError as problem:
                _not_sent(problem, tunnel)
        return len(parts)

    def route(self, addresses: bytes) -> PathTunnel | None:
        """The tunnel by which a packet between these addresses goes out."""
        if not addresses:
            return None
        if addresses not in self._routes:
            if len(self._routes) >= KNOWN_ROUTES:
                self._routes.clear()
            self._routes[addresses] = next(
                (tunnel for tunnel in self.tunnels if tunnel.channel.allows_out(addresses)), None
            )
        return self._routes[addresses]

    # From the network to the device.

    def receive(self, burst: Burst, now: float) -> tuple[list[Tunnel], list[bytes]]:
        """Open a burst's datagrams and hand the packets to the device.

        The tunnels by which something authentic came, and the datagrams that are no channel's.
        """
        if not self.by_label:
            return [], list(burst.datagrams())
        used: list[Tunnel] = []
        others: list[bytes] = []
        view, end, by_label = burst.view, burst.start + burst.total, self.by_label
        for begin in range(burst.start, end, burst.size):
            data = bytes(view[begin : min(begin + burst.size, end)])
            label = data[:4]
            tunnel = by_label.get(label)
            if tunnel is None:
                # RFC 3948 §2.2, §2.3: four zero octets mark IKE, a lone octet is a keep-alive.
                self.unknown += len(data) > 4 and label != bytes(4)
                others.append(data)
                continue
            channel = tunnel.channel
            try:
                packet = channel.open(data, now)
            except Malformed:
                continue
            if tunnel not in used:
                used.append(tunnel)
            if packet and channel.allows_in(label, addresses_of(packet)):
                self._deliver(packet, burst.traffic_class)
            else:
                self.dropped += bool(packet)
        return used, others

    def receive_queued(self) -> int:
        """Hand the device what sessions have received; how many packets."""
        count = 0
        for tunnel in self.queued:
            channel = tunnel.channel
            for packet in channel.take():
                count += 1
                if channel.allows_in(addresses_of(packet)):
                    self._deliver(packet, 0)
                else:
                    self.dropped += 1
        return count

    def _deliver(self, packet: bytes, outer: int) -> None:
        if outer & 3 in CARRIED_IN:
            view = memoryview(bytearray(packet))
            if not encapsulation.take_congestion(view, 0, len(packet), outer):
                self.dropped += 1
                return
            packet = bytes(view)
        if self.options.clamp:
            is_v4 = packet[0] >> 4 == 4
            flags = ((packet[0] & 0xF) * 4 if is_v4 else 40) + 13
            if packet[9 if is_v4 else 6] == TCP and flags < len(packet) and packet[flags] & encapsulation.SYN:
                packet = _clamped(packet, self.mtu)
        self.device.write([self._nothing + packet])


def _not_sent(problem: OSError, tunnel: PathTunnel) -> None:
    """Lost, as on any path; where it was too long the path has become narrower (RFC 4301 §8.2)."""
    if problem.errno in TOO_LONG:
        tunnel.measure(refused=True)


def _clamped(packet: bytes, mtu: int) -> bytes:
    """With a lower MSS, where a TCP SYN asks for more than fits."""
    view = memoryview(bytearray(packet))
    return bytes(view) if encapsulation.clamp_tcp_mss(view, 0, len(packet), mtu) else packet


def addresses_of(packet: bytes) -> bytes:
    """Source and destination, one behind the other; empty where it is no IP packet."""
    version = packet[0] >> 4 if packet else 0
    if version == 4 and len(packet) >= 20:
        return packet[12:20]
    return packet[8:40] if version == 6 and len(packet) >= 40 else b""
