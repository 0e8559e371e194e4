"""A tunnel as the data path sees it: a packet channel, and the socket and peer that its datagrams go by."""

from __future__ import annotations

from zesty_burrow.carrier.data_path.udp_port import UdpPort
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.packets.too_big import LEAST_IPV4
from zesty_burrow.host.address_changes import path_mtu
from zesty_burrow.protocols.session import PacketChannel

IPV4_AND_UDP, IPV6_AND_UDP = 28, 48


class Tunnel:
    """``peer``: where datagrams go to, through ``port``. ``limit``: the longest inner packet that the path takes."""

    def __init__(self, channel: PacketChannel, port: UdpPort, peer: Endpoint, limit: int = 65535) -> None:
        self.channel = channel
        self.port = port
        self.peer = peer
        self.limit = limit

    def measure(self) -> int:
        """Look up what the path to the peer takes now, and keep to it (RFC 4301 §8.2); the longest inner packet."""
        most = path_mtu(self.peer[0])
        if most:
            room = most - (IPV6_AND_UDP if ":" in self.peer[0] else IPV4_AND_UDP)
            self.limit = max(self.channel.largest_inner(room), LEAST_IPV4)
        return self.limit
