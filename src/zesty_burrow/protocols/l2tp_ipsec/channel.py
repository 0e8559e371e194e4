"""The packet channel: packets in PPP, in L2TP, in UDP, in ESP in transport mode (RFC 3193 §2)."""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Sequence

from zesty_burrow.core.crypto.random_octets import Random
from zesty_burrow.core.esp.channel import EspChannel, Ranges, SaPair
from zesty_burrow.core.esp.sa import InboundSa, OutboundSa
from zesty_burrow.core.net import AddressRange, between
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.l2tp_ipsec.ikev1.config import L2TP_PORT, UDP, ChildSa
from zesty_burrow.protocols.l2tp_ipsec.l2tp.connection import L2tpConnection
from zesty_burrow.protocols.l2tp_ipsec.l2tp.header import data_prefix
from zesty_burrow.protocols.ppp.packet import ADDRESS_CONTROL, Number, read_frame
from zesty_burrow.protocols.ppp.router import is_of_the_line

MAX_WAITING = 256
UDP_HEADER = struct.Struct(">HHHH")
UDP_SIZE, L2TP_SIZE, NUMBERED_SIZE, PPP_SIZE = 8, 6, 10, 4
HEADERS = {4: ADDRESS_CONTROL + Number.IPV4.to_bytes(2), 6: ADDRESS_CONTROL + Number.IPV6.to_bytes(2)}
_VERSIONS = {int(Number.IPV4): 4, int(Number.IPV6): 6}


def in_udp(message: bytes) -> bytes:
    """A message of L2TP between its ports; ESP protects it, so no checksum is needed (RFC 3948 §3.1.2)."""
    return UDP_HEADER.pack(L2TP_PORT, L2TP_PORT, UDP_SIZE + len(message), 0) + message


def out_of_udp(datagram: bytes) -> bytes:
    """The message of L2TP. Raises :class:`Malformed`."""
    if len(datagram) < UDP_SIZE:
        raise Malformed("a UDP datagram within ESP is malformed", why=f"it has {len(datagram)} octets")
    _, destination, length, _ = UDP_HEADER.unpack_from(datagram)
    if destination != L2TP_PORT or not UDP_SIZE <= length <= len(datagram):
        raise Malformed("a UDP datagram within ESP is malformed", why=f"it is for port {destination}")
    return datagram[UDP_SIZE:length]


class L2tpChannel(EspChannel):
    """``local``: what this side may use as its addresses; ``remote``: where packets may go; ``is_open``: packets may.

    What is not a packet waits in ``messages`` for the session.
    """

    def __init__(self, pair: SaPair, l2tp: L2tpConnection) -> None:
        super().__init__(pair)
        self.l2tp = l2tp
        self.local: tuple[AddressRange, ...] = ()
        self.remote: tuple[AddressRange, ...] = ()
        self.messages: deque[bytes] = deque(maxlen=MAX_WAITING)
        self.is_open = False

    def open_for(self, local: Sequence[AddressRange], remote: Sequence[AddressRange]) -> None:
        """From now on packets may go."""
        self.local, self.remote, self.is_open = tuple(local), tuple(remote), True
        self.revision += 1

    @property
    def has_messages(self) -> bool:
        """Whether something waits for the session."""
        return bool(self.messages or self.l2tp.frames)

    @property
    def headers(self) -> int:
        """Octets between ESP and a packet."""
        return UDP_SIZE + (NUMBERED_SIZE if self.l2tp.numbered else L2TP_SIZE) + PPP_SIZE

    @property
    def overhead(self) -> int:
        """Octets that sealing adds at least."""
        return super().overhead + self.headers

    def ranges_of(self, pair: SaPair) -> Ranges:
        """The same in all of them."""
        return self.local, self.remote

    def front_out(self) -> bytes | None:
        """Headers of UDP, L2TP and PPP; None as long as messages alone may go, or where packets have numbers."""
        return self._front(*self.l2tp.peer_numbers)

    def front_in(self) -> bytes | None:
        """The same."""
        return self._front(*self.l2tp.own_numbers)

    def _front(self, tunnel: int, session: int) -> bytes | None:
        if not self.is_open or self.l2tp.numbered:
            return None
        return in_udp(data_prefix(tunnel, session)) + HEADERS[4]

    def largest_inner(self, room: int) -> int:
        """Largest inner packet that fits a datagram of ``room`` octets."""
        return super().largest_inner(room) - self.headers

    def allows_out(self, addresses: bytes) -> bool:
        """RFC 4301 §5.1: what is not this tunnel's never goes out by it."""
        return self.is_open and between(self.local, self.remote, addresses)

    def allows_in(self, label: bytes, addresses: bytes) -> bool:
        """The same for what comes in."""
        return between(self.remote, self.local, addresses)

    def seal(self, packet: bytes, now: float) -> bytes:
        """The datagram around a packet."""
        return super().seal(in_udp(self.l2tp.frame(HEADERS[packet[0] >> 4] + packet)), now)

    def seal_message(self, message: bytes, now: float) -> bytes:
        """The datagram around a message of L2TP."""
        return super().seal(in_udp(message), now)

    def open_message(self, data: bytes, now: float) -> None:
        """Take a datagram before packets may go. Raises :class:`Malformed`."""
        if message := self._message(data, now):
            self.messages.append(message)

    def _message(self, data: bytes, now: float) -> bytes:
        inner = super().open(data, now)
        return out_of_udp(inner) if inner else b""

    def open(self, data: bytes, now: float) -> bytes:
        """The packet in a datagram; empty where it carries a message, which waits then. Raises :class:`Malformed`."""
        message = self._message(data, now)
        if not message:
            return b""
        if not self.is_open or (message[:1] and message[0] & 0x80):
            self.messages.append(message)
            return b""
        frame = self.l2tp.unframe(message)
        if not frame:
            return b""
        number, content = read_frame(frame)
        if content and _VERSIONS.get(number) == content[0] >> 4 and not is_of_the_line(content):
            return content
        # Its number was taken note of: it is not a message again.
        self.l2tp.frames.append(frame)
        return b""


def pair_of(child: ChildSa, random: Random) -> SaPair:
    """The SAs of a child in transport mode; what may go in them the channel itself says."""
    outbound = OutboundSa(child.spi_out, child.outbound.protection(random), following=UDP)
    inbound = InboundSa(child.spi_in, child.inbound.protection(random), following=UDP)
    return SaPair(outbound, inbound, (), ())
