"""A tunnel as the data path sees it: a packet channel, and the socket and peer that its datagrams go by."""

from __future__ import annotations

from zesty_burrow.carrier.data_path.udp_port import TooLong, UdpPort
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.packets.too_big import LEAST_IPV4, LEAST_IPV6
from zesty_burrow.host.watches.address_changes import path_mtu
from zesty_burrow.protocols.session import PacketChannel

IPV4_AND_UDP, IPV6_AND_UDP = 28, 48
LEAST_PATH = 1280
"""Octets: the least of IPv6 (RFC 8200 §5), and more than the 1200 that RFC 8899 §5.1.2 begins with."""


class Tunnel:
    """``peer``: where datagrams go to, through ``port``. ``limit``: the longest inner packet that the path takes."""

    def __init__(self, channel: PacketChannel, port: UdpPort, peer: Endpoint, limit: int = 65535) -> None:
        self.channel = channel
        self.port = port
        self.peer = peer
        self.limit = limit

    def measure(self, *, refused: bool = False) -> int:
        """Look up what the path to the peer takes now, and keep to it (RFC 4301 §8.2); the longest inner packet.

        Anybody on the way can claim that the path takes little: less than every path should is not believed (RFC 8899
        §4.6.1), unless the system itself has ``refused`` a datagram although it was told not to believe it. What IPv6
        has to be able to send (RFC 8200 §5) goes in any case, in two datagrams if need be.
        """
        most = path_mtu(self.peer[0])
        if not most:
            return self.limit
        doubtful = most < LEAST_PATH and not (refused and self.port.too_long is not TooLong.REFUSED)
        room = max(most, LEAST_PATH if doubtful else 0) - (IPV6_AND_UDP if ":" in self.peer[0] else IPV4_AND_UDP)
        self.limit = max(self.channel.largest_inner(room), LEAST_IPV4)
        if doubtful:
            self.port.treat_too_long(TooLong.SENT)
            self.limit = max(self.limit, LEAST_IPV6)
        else:
            self.port.treat_too_long(TooLong.REFUSED if self.limit >= LEAST_IPV6 else TooLong.CUT)
        return self.limit

    def limit_of(self, packet: bytes) -> int:
        """The longest inner packet of this one's family."""
        return max(self.limit, LEAST_IPV6) if packet[0] >> 4 == 6 else self.limit
