"""A tunnel as the data path sees it: a channel, and what its packets go by.

That is a socket where each packet is sealed into a datagram of its own, or the session where packets travel in its
messages.
"""

from __future__ import annotations

import asyncio
import time
from typing import Protocol

from zesty_burrow.carrier.data_path.path_size import LEAST_PATH, PathSize
from zesty_burrow.carrier.ports.udp_port import TooLong, UdpPort
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.packets.too_big import LEAST_IPV4, LEAST_IPV6
from zesty_burrow.host.watches.address_changes import link_mtu, path_mtu
from zesty_burrow.protocols.session import CapsuleChannel, PacketChannel, QueuedChannel

IPV4_AND_UDP, IPV6_AND_UDP = 28, 48


class DatagramPort(Protocol):
    """What datagrams go by: a UDP socket, or a connection that frames them."""

    splits: bool
    joins: bool
    more_headers: int

    @property
    def too_long(self) -> TooLong | None:
        """See :meth:`treat_too_long`."""

    @property
    def is_full(self) -> bool:
        """Whether so much waits that nothing should be added."""

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """One datagram. Raises ``OSError``."""

    def treat_too_long(self, how: TooLong) -> None:
        """What becomes of datagrams that are longer than messages from the network say that the path takes."""


def outer_headers(address: str) -> int:
    """Octets of the headers in front of a tunnel's datagram to this address."""
    return IPV6_AND_UDP if ":" in address else IPV4_AND_UDP


class Tunnel:
    """``peer``: where datagrams go to, through ``port``; ``outer``: the address of a proxy on the way.

    ``limit``: the longest inner packet that the path takes.

    ``size``: whether that can be confirmed, and was; then ``wake`` is set when there is something to confirm.
    ``waits``: see :class:`QueuedTunnel`. ``never_blocks``: whether the system's queue tells by itself.
    ``has_fixed_limit``: whether packets up to ``limit`` can be sent whatever their length.
    """

    def __init__(
        self,
        channel: PacketChannel,
        port: DatagramPort,
        peer: Endpoint,
        limit: int = 65535,
        size: PathSize | None = None,
        wake: asyncio.Event | None = None,
        *,
        waits: bool = True,
        outer: str = "",
    ) -> None:
        self.waits = waits
        self._outer = outer or peer[0]
        self.channel = channel
        self.port = port
        self.peer = peer
        self.limit = limit
        self.size = size
        self.never_blocks, self.has_fixed_limit = isinstance(port, UdpPort), True
        self._wake = wake

    def widest(self) -> int:
        """The longest inner packet for which this machine's own link has room, whatever anybody claims."""
        return max(self.channel.largest_inner(link_mtu(self._outer) - self._headers), LEAST_IPV4)

    @property
    def labels(self) -> frozenset[bytes]:
        """Whose datagrams are this tunnel's."""
        return self.channel.labels

    @property
    def is_blocked(self) -> bool:
        """Whether packets would only wait."""
        return self.port.is_full

    def send(self, packet: bytes, now: float, traffic_class: int) -> None:
        """Seal a packet and send it. Raises ``OSError``."""
        self.port.send(self.channel.seal(packet, now), self.peer, traffic_class)

    @property
    def _headers(self) -> int:
        return outer_headers(self._outer) + self.port.more_headers

    def measure(self, *, refused: bool = False) -> int:
        """Look up what the path to the peer takes now, and keep to it (RFC 4301 §8.2); the longest inner packet.

        Anybody on the way can claim that the path takes little: what was confirmed counts, and less than every path
        should is not believed (RFC 8899 §4.6.1), unless the system itself has ``refused`` a datagram although it was
        told not to believe it. What IPv6 has to be able to send (RFC 8200 §5) goes in any case, in two datagrams if
        need be.
        """
        most = path_mtu(self._outer)
        if not most:
            return self.limit
        size = most
        if self.size is not None:
            size = self.size.look(most, max(link_mtu(self._outer), most), time.monotonic())
            if self.size.wants_search and self._wake is not None:
                self._wake.set()
        doubtful = size < LEAST_PATH and not (refused and self.port.too_long is not TooLong.REFUSED)
        room = max(size, LEAST_PATH if doubtful else 0) - self._headers
        self.limit = max(self.channel.largest_inner(room), LEAST_IPV4)
        if doubtful or size > most:
            self.port.treat_too_long(TooLong.SENT)
            self.limit = max(self.limit, LEAST_IPV6)
        else:
            self.port.treat_too_long(TooLong.REFUSED if self.limit >= LEAST_IPV6 else TooLong.CUT)
        return self.limit

    def limit_of(self, packet: bytes) -> int:
        """The longest inner packet of this one's family."""
        return max(self.limit, LEAST_IPV6) if packet[0] >> 4 == 6 else self.limit


FLUSH = 128 << 10
"""Octets that are gathered before the session is asked to send."""


class Sender(Protocol):
    """A session with its connection."""

    @property
    def is_blocked(self) -> bool:
        """Whether it takes nothing at the moment."""

    def flush(self) -> None:
        """Send what the session has."""


class QueuedTunnel:
    """Packets that travel in the session's own messages. ``limit``: the longest one.

    ``waits``: where the session takes nothing, the device is not read until it does; otherwise packets are dropped, as
    one of many callers may not hold up the others.
    """

    size = None
    never_blocks = False
    labels: frozenset[bytes] = frozenset()

    def __init__(self, channel: QueuedChannel, sender: Sender, peer: Endpoint, *, waits: bool = True) -> None:
        self.channel, self.peer, self.waits = channel, peer, waits
        self.sender = sender
        self.has_fixed_limit = isinstance(channel, CapsuleChannel)
        self.limit = self.measure()
        self._gathered = 0

    @property
    def is_blocked(self) -> bool:
        """Whether packets would only wait."""
        return self.sender.is_blocked

    def widest(self) -> int:
        """No packet is longer than what this machine's own link takes: nothing is gained by it."""
        return self.measure()

    def measure(self, *, refused: bool = False) -> int:
        del refused
        self.limit = max(min(self.channel.largest_inner(0), link_mtu(self.peer[0])), LEAST_IPV6)
        return self.limit

    def limit_of(self, packet: bytes) -> int:
        """The same for both families."""
        return max(self.channel.largest_inner(len(packet)), LEAST_IPV6)

    def send(self, packet: bytes, now: float, traffic_class: int) -> None:
        """Hand a packet to the session. Raises ``BlockingIOError`` where it would only wait, and others may not."""
        del traffic_class
        if not self.waits and self.sender.is_blocked:
            raise BlockingIOError("the session takes nothing more at the moment")
        self.channel.put(packet, now)
        self._gathered += len(packet)
        if self._gathered > FLUSH:
            self.flush()

    def send_capsules(self, channel: CapsuleChannel, octets: bytes, packets: int, size: int, now: float) -> None:
        """The same for many packets that are in capsules of its channel already; dropped where others may not wait."""
        if self.waits or not self.sender.is_blocked:
            channel.put_capsules(octets, packets, size, now)
            self._gathered += len(octets)
            if self._gathered > FLUSH:
                self.flush()

    def flush(self) -> None:
        if self._gathered:
            self._gathered = 0
            self.sender.flush()


PathTunnel = Tunnel | QueuedTunnel
