"""The packet channel: packets in PPP under MPPE, in GRE. Nothing shows whether they are authentic, or whole."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from zesty_burrow.core.esp.channel import Counters
from zesty_burrow.core.net import AddressRange, between
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.ppp.mppe import MppeReceiver, MppeSender
from zesty_burrow.protocols.ppp.packet import ADDRESS_CONTROL, Number, read_frame
from zesty_burrow.protocols.ppp.router import is_of_the_line
from zesty_burrow.protocols.pptp.gre import HEADER, LABELS, GreFlow

OVERHEAD = HEADER + 2 + 2 + 2 + 2
"""GRE, address and control, protocol, MPPE's header, the packet's own protocol."""
LESS_THAN_UDP = 8
"""Octets that GRE has less than what stands for a datagram's headers."""
MAX_FRAMES = 256
VERSIONS = {int(Number.IPV4): 4, int(Number.IPV6): 6}
KINDS = {version: ADDRESS_CONTROL + number.to_bytes(2) for number, version in VERSIONS.items()}


class PptpChannel:
    """``keys``: of MPPE, this side's sending and receiving one; None before there is encryption.

    ``frames``: what is no packet, for the session.
    """

    def __init__(self, flow: GreFlow) -> None:
        self.flow = flow
        self.local: tuple[AddressRange, ...] = ()
        self.remote: tuple[AddressRange, ...] = ()
        self.frames: deque[bytes] = deque(maxlen=MAX_FRAMES)
        self.is_open = False
        self.revision = 0
        self.last_sent = self.last_received = 0.0
        self._counters = Counters()
        self._sender: MppeSender | None = None
        self._receiver: MppeReceiver | None = None

    def encrypt(self, sending: bytes, receiving: bytes) -> None:
        """From now on packets go under these keys, and come under them or not at all."""
        if self._sender is None:
            self._sender, self._receiver = MppeSender(sending), MppeReceiver(receiving)

    def open_for(self, local: Sequence[AddressRange], remote: Sequence[AddressRange]) -> None:
        """From now on packets may go."""
        self.local, self.remote, self.is_open = tuple(local), tuple(remote), True
        self.revision += 1

    @property
    def labels(self) -> frozenset[bytes]:
        return LABELS

    @property
    def overhead(self) -> int:
        """Octets around a packet."""
        return OVERHEAD

    @property
    def counters(self) -> Counters:
        """Packets and octets so far; ``rejected``: what could not be read, or came without encryption."""
        return self._counters

    wants_rekey = False

    def largest_inner(self, room: int) -> int:
        """Largest inner packet that fits a datagram of ``room`` octets."""
        return room + LESS_THAN_UDP - OVERHEAD

    def allows_out(self, addresses: bytes) -> bool:
        """Whether a packet with these addresses may go out here."""
        return self.is_open and between(self.local, self.remote, addresses)

    def allows_in(self, label: bytes, addresses: bytes) -> bool:
        """The same for what comes in."""
        return between(self.remote, self.local, addresses)

    def seal(self, packet: bytes, now: float) -> bytes:
        """The datagram around a packet."""
        self.last_sent = now
        self._counters.packets_out += 1
        self._counters.octets_out += len(packet)
        return self.wrap(KINDS[packet[0] >> 4] + packet)

    def wrap(self, frame: bytes) -> bytes:
        """The datagram around any frame of PPP; a packet's is encrypted."""
        return self.flow.wrap(self._sender.seal(frame) if self._sender is not None else frame)

    def unwrap(self, data: bytes, now: float) -> bytes:
        """The frame in a datagram; empty if it carries none for this call. Raises :class:`Malformed`."""
        try:
            frame = self.flow.unwrap(data)
            if frame and self._receiver is not None:
                frame = self._receiver.open(frame)
        except Malformed:
            self._counters.rejected += 1
            raise
        self.last_received = now if frame else self.last_received
        return frame

    def open(self, data: bytes, now: float) -> bytes:
        """The packet in a datagram; empty where it carries a frame of another kind, which waits then."""
        frame = self.unwrap(data, now)
        if not frame:
            return b""
        number, content = read_frame(frame)
        if self.is_open and content and VERSIONS.get(number) == content[0] >> 4 and not is_of_the_line(content):
            self._counters.packets_in += 1
            self._counters.octets_in += len(content)
            return content
        self.frames.append(frame)
        return b""
