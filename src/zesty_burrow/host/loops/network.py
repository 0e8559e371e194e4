"""Bursts from and to a socket (UDP_GRO, UDP_SEGMENT)."""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.core.compiled.octets import part
from zesty_burrow.core.compiled.symbols import NUMBER as INTEGER
from zesty_burrow.core.compiled.symbols import POINTER, function
from zesty_burrow.host.loops.layout import (
    ADDRESS,
    CLASS,
    CLOCK,
    IN_HEADER,
    IN_MARKS,
    IN_NAME,
    IN_PIECE,
    OUT_HEADER,
    OUT_MARKS,
    OUT_PIECE,
    PLACE,
    SEALED,
    SENT,
    SIZE,
    SOCKET,
    SPLITS,
    TARGET,
    TOTAL,
    TUNNEL,
)
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS, UDP_GRO, UDP_SEGMENT

_system = ctypes.CDLL(None)
_sendmsg = function(_system, "sendmsg", POINTER, INTEGER, POINTER, INTEGER)
_recvmsg = function(_system, "recvmsg", POINTER, INTEGER, POINTER, INTEGER)
poll = function(_system, "poll", INTEGER, POINTER, POINTER, INTEGER)
PATIENCE = 20
"""Milliseconds for which a full queue is waited for: a packet lost costs more."""
POLL_OUT, SOL_UDP = 4, 17
IPV4_TOS, IPV6_CLASS = 1 << 32, 67 << 32 | 41
"""Linux ``in.h``: level and kind of the control messages for the class of a datagram (IP_TOS, IPV6_TCLASS)."""
INET6 = 10


@part
def receive(descriptor: Any, inbox: Any, message: Any, state: Any) -> Any:
    """What has come from one sender, to the start of ``inbox``; its size and class. Below 0 where there is nothing."""
    base = message.ctypes.data
    message[IN_HEADER], message[IN_HEADER + 1] = base + 8 * IN_NAME, ADDRESS
    message[IN_HEADER + 2], message[IN_HEADER + 3] = base + 8 * IN_PIECE, 1
    message[IN_HEADER + 4], message[IN_HEADER + 5] = base + 8 * IN_MARKS, 8 * (IN_NAME - IN_MARKS)
    message[IN_HEADER + 6] = 0
    message[IN_PIECE], message[IN_PIECE + 1] = inbox.ctypes.data, ROOM_IN_PIECE + 536
    total = _recvmsg(descriptor, base, 0)
    state[TOTAL], state[SIZE], state[CLASS] = total, total, 0
    at, end = IN_MARKS, IN_MARKS + message[IN_HEADER + 5] // 8
    while at + 2 < end:
        kind, value = message[at + 1], message[at + 2]
        if kind == (UDP_GRO << 32 | SOL_UDP):
            state[SIZE] = value & 0xFFFF
        elif kind in (IPV4_TOS, IPV6_CLASS):
            state[CLASS] = value & 0xFF
        at += max(2, (message[at] + 7) // 8)
    state[SIZE] = max(1, state[SIZE])
    return total


@part
def comes_from(message: Any, sources: Any, row: Any, width: Any) -> Any:
    """Whether what was received has this source: family, port and address (RFC 3493 §3.3), not the flow label."""
    octets = message[IN_NAME : IN_NAME + ADDRESS // 8].view(np.uint8)
    found = np.uint8(0)
    for index in range(width):
        if index < 4 or index >= 8 or width == 16:
            found |= octets[index] ^ sources[row, index]
    return found == 0 and width > 0


@part
def send_piece(
    tunnels: Any, tunnel: Any, targets: Any, start: Any, total: Any, size: Any, mark: Any, message: Any
) -> Any:
    """Datagrams of ``size`` that lie one behind the other, or a single one where that is 0; whether they went."""
    base, descriptor = message.ctypes.data, np.int32(tunnels[tunnel, SOCKET])
    marks = OUT_MARKS
    if size:
        message[marks], message[marks + 1], message[marks + 2] = 18, UDP_SEGMENT << 32 | SOL_UDP, size
        marks += 3
    if mark:
        kind = IPV6_CLASS if targets[tunnel, 0] == INET6 else IPV4_TOS
        message[marks], message[marks + 1], message[marks + 2] = 20, kind, mark
        marks += 3
    message[OUT_HEADER], message[OUT_HEADER + 1] = targets.ctypes.data + ADDRESS * tunnel, tunnels[tunnel, TARGET]
    message[OUT_HEADER + 2], message[OUT_HEADER + 3] = base + 8 * OUT_PIECE, 1
    message[OUT_HEADER + 4] = base + 8 * OUT_MARKS if marks > OUT_MARKS else 0
    message[OUT_HEADER + 5], message[OUT_HEADER + 6] = 8 * (marks - OUT_MARKS), 0
    message[OUT_PIECE], message[OUT_PIECE + 1] = start, total
    if _sendmsg(descriptor, base + 8 * OUT_HEADER, 0) >= 0:
        return True
    message[CLOCK] = np.int64(descriptor) | POLL_OUT << 32
    poll(base + 8 * CLOCK, 1, PATIENCE)
    return _sendmsg(descriptor, base + 8 * OUT_HEADER, 0) >= 0


@part
def flush(tunnels: Any, tunnel: Any, targets: Any, row: Any, sizes: Any, count: Any, message: Any, state: Any) -> Any:
    """Send ``count`` datagrams from the start of ``row``, in as few pieces as can be; False where one did not go."""
    base, index, at = row.ctypes.data, 0, 0
    while index < count:
        size, mark, end = sizes[index, 0], sizes[index, 1], index + 1
        total, going = size, tunnels[tunnel, SPLITS] != 0
        while going and end < count and end - index < SEGMENTS:
            following = sizes[end, 0]
            if following > size or sizes[end, 1] != mark or total + following > ROOM_IN_PIECE:
                break
            total, end, going = total + following, end + 1, following == size
        if not send_piece(tunnels, tunnel, targets, base + at, total, size if end - index > 1 else 0, mark, message):
            state[SENT], state[SEALED], state[TUNNEL], state[PLACE] = index, count, tunnel, at
            return False
        index, at = end, at + total
    return True
