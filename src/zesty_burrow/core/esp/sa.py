"""One direction of a pair of ESP security associations (RFC 4303 §3.3, §3.4).

What changes with every packet (numbers, window, counters) is in a C structure, so that compiled loops can work on the
very same memory: each of these values exists once.
"""

from __future__ import annotations

import ctypes

from zesty_burrow.core.crypto.protection import Protection
from zesty_burrow.core.esp.replay import ReplayWindow, WindowState
from zesty_burrow.errors import Malformed, StateError

NEXT_IPV4, NEXT_IPV6, NEXT_NONE = 4, 41, 59
VERSION = {NEXT_IPV4: 4, NEXT_IPV6: 6}
"""Of IP, by next header."""
HEADER = 8
LAST_SEQUENCE, LAST_EXTENDED = (1 << 32) - 1, (1 << 64) - 1
PADDING = bytes(range(1, 256))


class OutboundState(ctypes.Structure):
    """``sequence``: the last number that was used. ``packets`` and inner ``octets`` that went out under this key."""

    _fields_ = (("sequence", ctypes.c_uint64), ("packets", ctypes.c_uint64), ("octets", ctypes.c_uint64))


class InboundState(ctypes.Structure):
    """``packets`` and inner ``octets`` that were authentic; packets that were ``rejected``; the replay window."""

    _fields_ = (
        ("packets", ctypes.c_uint64),
        ("octets", ctypes.c_uint64),
        ("rejected", ctypes.c_uint64),
        *WindowState._fields_,
    )


def largest_inner(room: int, protection: Protection) -> int:
    """The longest inner packet whose ESP packet has at most ``room`` octets (RFC 4303 §2.4)."""
    align = max(4, protection.block)
    return (room - HEADER - protection.overhead) // align * align - 2


class OutboundSa:
    """Seals packets for the peer's SPI. Sequence numbers never repeat under the key.

    ``extended``: they have 64 bits, of which the lower half is sent (RFC 4303 §2.2.1). ``following``: the next header
    in transport mode (RFC 4303 §3.1.1); 0: tunnel mode, where it is the packet's version of IP.
    """

    def __init__(self, spi: int, protection: Protection, *, extended: bool = False, following: int = 0) -> None:
        self.spi = spi
        self.extended = extended
        self.following = following
        self.state = OutboundState()
        self.protection = protection
        self._spi = spi.to_bytes(4)
        self._align = max(4, protection.block)

    def move_state(self, place: OutboundState) -> None:
        """Keep the state in this memory from now on."""
        ctypes.memmove(ctypes.byref(place), ctypes.byref(self.state), ctypes.sizeof(OutboundState))
        self.state = place

    def seal(self, packet: bytes) -> bytes:
        """The ESP packet around an IPv4 or IPv6 packet. :class:`StateError` once the numbers are used up."""
        state = self.state
        number: int = state.sequence + 1
        if number > (LAST_EXTENDED if self.extended else LAST_SEQUENCE):
            raise StateError("the tunnel's sequence numbers are used up", next_step="Disconnect and connect again.")
        state.sequence = number
        state.packets += 1
        state.octets += len(packet)
        header = self._spi + (number & LAST_SEQUENCE).to_bytes(4)
        associated, behind = header, b""
        if self.extended:
            associated, behind = self.protection.with_high_half(header, (number >> 32).to_bytes(4))
        # RFC 4303 §2.4: payload, padding, pad length and next header end on a boundary of 4 octets or a block.
        pad = -(len(packet) + 2) % self._align
        following = self.following or (NEXT_IPV6 if packet[0] >> 4 == 6 else NEXT_IPV4)
        plaintext = packet + PADDING[:pad] + bytes((pad, following))
        return header + self.protection.seal(associated, plaintext, behind, number)


class InboundSa:
    """Opens packets that come for our SPI. ``following``: as in :class:`OutboundSa`."""

    def __init__(self, spi: int, protection: Protection, *, extended: bool = False, following: int = 0) -> None:
        self.spi = spi
        self.extended = extended
        self.following = following
        self.state = InboundState()
        self.window = ReplayWindow(state=self.state)
        self.protection = protection
        self._spi = spi.to_bytes(4)
        self._least = HEADER + protection.overhead + 2

    def move_state(self, place: InboundState) -> None:
        """Keep the state in this memory from now on."""
        ctypes.memmove(ctypes.byref(place), ctypes.byref(self.state), ctypes.sizeof(InboundState))
        self.state = place
        self.window = ReplayWindow(state=place)

    def open(self, data: bytes) -> bytes:
        """The inner packet; empty for a dummy packet (RFC 4303 §2.6). Raises only :class:`Malformed`."""
        state, window = self.state, self.window
        try:
            if len(data) < self._least or data[:4] != self._spi:
                raise Malformed("an ESP packet is malformed", why="it is too short or names another SPI")
            sequence = int.from_bytes(data[4:8])
            associated, behind = data[:HEADER], b""
            if self.extended:
                sequence = window.whole_number(sequence)
                associated, behind = self.protection.with_high_half(associated, (sequence >> 32).to_bytes(4))
            if not window.check(sequence):
                raise Malformed("an ESP packet was rejected", why=f"number {sequence} came before or is too old")
            plaintext = self.protection.open(associated, data[HEADER:], behind)
            window.accept(sequence)
            pad, following = plaintext[-2], plaintext[-1]
            if pad + 2 > len(plaintext):
                raise Malformed("an ESP packet is malformed", why="its padding is longer than its content")
            packet = plaintext[: len(plaintext) - 2 - pad]
            if following == NEXT_NONE:
                packet = b""
            elif following != self.following and (
                self.following or not packet or VERSION.get(following) != packet[0] >> 4
            ):
                raise Malformed("an ESP packet is malformed", why=f"next header {following} does not fit its content")
        except Malformed:
            state.rejected += 1
            raise
        state.packets += 1
        state.octets += len(packet)
        return packet
