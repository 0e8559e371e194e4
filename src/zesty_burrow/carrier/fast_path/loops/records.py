"""What Python and the loops share: records with named fields, groups of buffers, and why the loops have ended."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from zesty_burrow.core.esp.sa import InboundState, OutboundState

Octets = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.int64]
Records = npt.NDArray[np.void]
Record = Any
"""One entry of :data:`Records`, by reference."""

ADDRESS, FRONT = 32, 32
"""Octets of a socket address, and at most of what is in front of a packet within ESP."""

STATE = np.dtype(
    [
        ("device", "i8"),  # the tunnel device's descriptor
        ("header", "i8"),  # octets of the offload header before each packet of the device
        ("stride", "i8"),  # from slot to slot
        ("slots", "i8"),
        ("longest", "i8"),  # octets of a packet that fits into a slot
        ("room", "i8"),  # octets behind the last slot's beginning
        ("first", "i8"),  # where the first slot's packet begins
        ("clamp", "i8"),  # the MTU by which TCP's MSS is lowered; 0: it is not
        ("joins_tcp", "i8"),
        ("joins_udp", "i8"),  # whether the device takes packets in large pieces
        ("deadline", "i8"),  # until when to wait, nanoseconds of the monotonic clock; -1: for ever
        ("budget", "i8"),  # how many packets may yet be carried before Python looks
        ("total", "i8"),  # a burst: its octets, the size of its datagrams, its traffic class,
        ("size", "i8"),
        ("mark", "i8"),
        ("begin", "i8"),  # and from which octet on it is left to Python
        ("left_begin", "i8"),  # reads from the device that are left to Python: from which on,
        ("left_end", "i8"),  # and until which
        ("dropped", "i8"),  # packets that the selectors do not allow, or that are malformed
        ("unsent", "i8"),  # whether the network has refused something: its error number is not known
        ("pace", "i8"),  # how many packets a turn outwards has had of late, times 256
        ("ended", "i8"),  # when the last turn outwards ended, nanoseconds
    ]
)
INBOUND_SA = np.dtype(
    [
        ("context", "i8"),  # where the cipher is
        ("spi", "i8"),
        ("extended", "i8"),
        ("range_begin", "i8"),
        ("range_end", "i8"),
        ("last", "i8"),  # when something authentic has come, nanoseconds; 0: not since Python looked
        ("peer_size", "i8"),
        ("peer", "u1", ADDRESS),  # where its packets come from
        ("salt", "u1", 4),
        ("in_front", "i8"),  # octets between ESP and each packet, 0 in tunnel mode;
        ("front", "u1", FRONT),  # and what they are, but for lengths and the kind of packet
    ]
)
OUTBOUND_SA = np.dtype(
    [
        ("context", "i8"),
        ("spi", "i8"),
        ("extended", "i8"),
        ("range_begin", "i8"),
        ("range_end", "i8"),
        ("last", "i8"),  # when something has gone out, nanoseconds; 0: not since Python looked
        ("last_number", "u8"),  # the last sequence number that may be used here
        ("octet_limit", "u8"),  # after how many octets Python has to ask for new keys
        ("limit", "i8"),  # the longest inner packet
        ("socket", "i8"),
        ("splits", "i8"),  # whether the socket takes many datagrams by one call
        ("peer_size", "i8"),
        ("peer", "u1", ADDRESS),
        ("salt", "u1", 4),
        ("in_front", "i8"),  # as above
        ("front", "u1", FRONT),
    ]
)
RANGE = np.dtype([("version", "i8"), ("remote", "i8"), ("start", "u1", 16), ("end", "u1", 16)])
"""A range of addresses that an SA may carry: of this side, or of the remote one."""
INBOUND_STATE, OUTBOUND_STATE = np.dtype(InboundState), np.dtype(OutboundState)
"""What changes with every packet: the memory of the SAs themselves."""


class Tables(NamedTuple):
    """All SAs: how they are used, their states, and the ranges that they may carry."""

    inbound: Records
    inbound_states: Records
    outbound: Records
    outbound_states: Records
    ranges: Records


class Receiving(NamedTuple):
    """``inbox``: what the socket has; ``lengths``: of the opened packets; ``joined``, ``parts``: for joining them."""

    inbox: Octets
    lengths: Numbers
    joined: Numbers
    parts: Numbers
    scratch: Octets


class Sending(NamedTuple):
    """``slots``: what the device has, with a row of ``reads`` each; ``sealed`` and ``sizes``: datagrams to send.

    ``marks``: the outer traffic class for each inner one.
    """

    slots: Octets
    reads: Numbers
    sealed: Octets
    sizes: Numbers
    marks: Octets
    scratch: Octets


class Packets(NamedTuple):
    """``number`` packets of ``length`` octets, ``stride`` apart from ``at`` of ``octets`` on."""

    octets: Octets
    at: Any
    stride: Any
    number: Any
    length: Any


# Words of what the system's calls are given: message headers, pieces, control messages, a name, a time, descriptors.
IN_HEADER, IN_PIECE, IN_MARKS, IN_NAME = 0, 7, 9, 25
OUT_HEADER, OUT_PIECE, OUT_MARKS = 29, 36, 38
CLOCK, POLL, MESSAGE = 44, 46, 49
SOCKET, DEVICE, OTHERS = POLL, POLL + 1, POLL + 2
"""What is waited for: the socket, the device, and whatever else the event loop waits for."""

NOTHING, INBOUND_LEFT, OUTBOUND_LEFT, CIPHER_FAILED = range(4)
"""Why the loops have ended: only the event loop has something to do; datagrams, or packets, are left to Python; the
cipher library has refused to work."""
GOES_ON, EMPTY = 16, 17
TURNS = 4
"""Turns in one direction before the other gets its own."""
MOST_AT_ONCE = 256
"""Datagrams of a burst."""
