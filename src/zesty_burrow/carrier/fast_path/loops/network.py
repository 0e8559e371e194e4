"""Bursts from and to a socket (UDP_GRO, UDP_SEGMENT)."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.octets import part
from zesty_burrow.carrier.fast_path.loops.records import (
    ADDRESS,
    CLOCK,
    IN_HEADER,
    IN_MARKS,
    IN_NAME,
    IN_PIECE,
    OUT_HEADER,
    OUT_MARKS,
    OUT_PIECE,
    Numbers,
    Octets,
    Record,
    Sending,
)
from zesty_burrow.carrier.fast_path.symbols import NUMBER as INTEGER
from zesty_burrow.carrier.fast_path.symbols import POINTER, function
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS, UDP_GRO, UDP_SEGMENT

_system = ctypes.CDLL(None)
_sendmsg = function(_system, "sendmsg", POINTER, INTEGER, POINTER, INTEGER)
_recvmsg = function(_system, "recvmsg", POINTER, INTEGER, POINTER, INTEGER)
poll = function(_system, "poll", INTEGER, POINTER, POINTER, INTEGER)
POLL_MILLISECONDS = 20
"""Milliseconds for which a full queue is waited for: a lost packet costs more."""
POLL_OUT, SOL_UDP = 4, 17
IPV4_TOS, IPV6_CLASS = 1 << 32, 67 << 32 | 41
"""Linux ``in.h``: level and kind of the control messages for the class of a datagram (IP_TOS, IPV6_TCLASS)."""
INET6 = 10


@part
def receive(descriptor: Any, inbox: Octets, message: Numbers, state: Record) -> Any:
    """What has come from one sender, to the start of ``inbox``; its size and class. Below 0 where there is nothing."""
    base = message.ctypes.data
    message[IN_HEADER], message[IN_HEADER + 1] = base + 8 * IN_NAME, ADDRESS
    message[IN_HEADER + 2], message[IN_HEADER + 3] = base + 8 * IN_PIECE, 1
    message[IN_HEADER + 4], message[IN_HEADER + 5] = base + 8 * IN_MARKS, 8 * (IN_NAME - IN_MARKS)
    message[IN_HEADER + 6] = 0
    message[IN_PIECE], message[IN_PIECE + 1] = inbox.ctypes.data, ROOM_IN_PIECE + 536
    total = _recvmsg(descriptor, base, 0)
    state.total, state.size, state.mark = total, total, 0
    at, end = IN_MARKS, IN_MARKS + message[IN_HEADER + 5] // 8
    while at + 2 < end:
        kind, value = message[at + 1], message[at + 2]
        if kind == (UDP_GRO << 32 | SOL_UDP):
            state.size = value & 0xFFFF
        elif kind in (IPV4_TOS, IPV6_CLASS):
            state.mark = value & 0xFF
        at += max(2, (message[at] + 7) // 8)
    state.size = max(1, state.size)
    return total


@part
def comes_from(message: Numbers, sa: Record) -> Any:
    """Whether what was received comes from an SA's peer: family, port, address (RFC 3493 §3.3), not the flow label."""
    octets = message[IN_NAME : IN_NAME + ADDRESS // 8].view(np.uint8)
    peer, found = sa.peer, np.uint8(0)
    for index in range(sa.peer_size):
        if index < 4 or index >= 8 or sa.peer_size == 16:
            found |= octets[index] ^ peer[index]
    return found == 0 and sa.peer_size > 0


@part
def send_piece(sa: Record, start: Any, total: Any, size: Any, mark: Any, message: Numbers) -> Any:
    """Datagrams of ``size`` that lie one behind the other, or a single one where that is 0; whether they went."""
    base, descriptor = message.ctypes.data, np.int32(sa.socket)
    marks, peer = OUT_MARKS, sa.peer
    if size:
        message[marks], message[marks + 1], message[marks + 2] = 18, UDP_SEGMENT << 32 | SOL_UDP, size
        marks += 3
    if mark:
        kind = IPV6_CLASS if peer[0] == INET6 else IPV4_TOS
        message[marks], message[marks + 1], message[marks + 2] = 20, kind, mark
        marks += 3
    message[OUT_HEADER], message[OUT_HEADER + 1] = peer.ctypes.data, sa.peer_size
    message[OUT_HEADER + 2], message[OUT_HEADER + 3] = base + 8 * OUT_PIECE, 1
    message[OUT_HEADER + 4] = base + 8 * OUT_MARKS if marks > OUT_MARKS else 0
    message[OUT_HEADER + 5], message[OUT_HEADER + 6] = 8 * (marks - OUT_MARKS), 0
    message[OUT_PIECE], message[OUT_PIECE + 1] = start, total
    if _sendmsg(descriptor, base + 8 * OUT_HEADER, 0) >= 0:
        return True
    message[CLOCK] = np.int64(descriptor) | POLL_OUT << 32
    poll(base + 8 * CLOCK, 1, POLL_MILLISECONDS)
    return _sendmsg(descriptor, base + 8 * OUT_HEADER, 0) >= 0


@part
def flush(sa: Record, sending: Sending, count: Any, message: Numbers, state: Record) -> None:
    """Send ``count`` datagrams from the start of ``sealed``, in as few pieces as possible.

    What the network refuses in one piece is sent one by one (a device without checksum offload takes no segments);
    what it refuses then is lost.
    """
    base, sizes, index, at = sending.sealed.ctypes.data, sending.sizes, 0, 0
    while index < count:
        size, mark, end = sizes[index, 0], sizes[index, 1], index + 1
        total, going = size, sa.splits != 0
        while going and end < count and end - index < SEGMENTS:
            following = sizes[end, 0]
            if following > size or sizes[end, 1] != mark or total + following > ROOM_IN_PIECE:
                break
            total, end, going = total + following, end + 1, following == size
        if not send_piece(sa, base + at, total, size if end - index > 1 else 0, mark, message):
            state.unsent = 1
            place = base + at
            if end - index > 1:
                for one in range(index, end):
                    send_piece(sa, place, sizes[one, 0], 0, mark, message)
                    place += sizes[one, 0]
        index, at = end, at + total
