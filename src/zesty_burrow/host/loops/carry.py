"""Waits for packets of a tunnel device and of a socket, and carries the usual: those of a known way, whole, in order.

What is not it leaves to who has called it.
"""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.core.compiled.esp import MOST_AT_ONCE, SHORTEST, arrive, seal
from zesty_burrow.core.compiled.join import join_all
from zesty_burrow.core.compiled.octets import TCP, compiled_alone, get32, part
from zesty_burrow.core.compiled.split import finish, split
from zesty_burrow.core.compiled.symbols import NUMBER as INTEGER
from zesty_burrow.core.compiled.symbols import POINTER, function
from zesty_burrow.core.compiled.ways import class_at, opens_tcp, way_of
from zesty_burrow.host.loops.device import KIND, read_many, write_rows
from zesty_burrow.host.loops.layout import (
    AUTHENTIC,
    BEFORE,
    BEGIN,
    BUDGET,
    CARRIED,
    CLAMP,
    CLASS,
    CLOCK,
    CONTEXT,
    COUNT,
    COUNTER,
    DEADLINE,
    DEVICE,
    EMPTY,
    ENDED,
    EXTENDED,
    FIRST,
    FLOW,
    FLOWS,
    GOES_ON,
    HEARD,
    HIGHEST,
    INWARDS,
    LIMIT,
    LONGEST,
    MOST,
    NOT_SENT,
    NOTED,
    NOTHING,
    NUMBER,
    OCTETS,
    OTHERS,
    OUTWARDS,
    PACE,
    PACKETS,
    PARTLY_IN,
    PIECES,
    REFUSED,
    REJECTED,
    ROOM,
    RUNS,
    SIZE,
    SOURCE,
    SPI,
    STRANGE_IN,
    STRIDE,
    TAKEN,
    UNUSUAL_IN,
    UNUSUAL_OUT,
)
from zesty_burrow.host.loops.network import comes_from, flush, poll, receive
from zesty_burrow.host.udp import BURSTS, ROOM_IN_PIECE, SEGMENTS, WORTH_MORE

_system = ctypes.CDLL(None)
_clock = function(_system, "clock_gettime", INTEGER, INTEGER, POINTER)
_sleep = function(_system, "nanosleep", INTEGER, POINTER, POINTER)
MONOTONIC, POLL_IN = 1, 1
FEW, MANY = 3 * 256, 48 * 256
"""Packets a turn between which it is worth a pause to let others come: fewer are hardly a stream, more are enough."""
NEAR, PAUSE = 300_000, 100_000
"""Nanoseconds after a turn in which the next one counts as right behind it; and how long a pause is."""


@part
def clock_now(message: Any) -> Any:
    _clock(MONOTONIC, message.ctypes.data + 8 * CLOCK)
    return message[CLOCK] * 1_000_000_000 + message[CLOCK + 1]


@part
def flow_of(flows: Any, sources: Any, inbox: Any, message: Any, total: Any) -> Any:
    """The inbound SA of a burst's first packet and its number; -1 where that is not known, or does not come next."""
    if total < SHORTEST:
        return -1, 0
    spi, flow = get32(inbox, 0), -1
    for row in range(FLOWS):
        if flows[row, SPI] == spi and flows[row, CONTEXT]:
            flow = row
    if flow < 0 or not comes_from(message, sources, flow, flows[flow, SOURCE]):
        return -1, 0
    highest, number = flows[flow, HIGHEST], get32(inbox, 4)
    if flows[flow, EXTENDED]:
        number |= highest & ~0xFFFFFFFF
    return (flow, number) if 0 < number - highest < 1 << 30 else (-1, 0)


@part
def note_run(state: Any, runs: Any, flow: Any, number: Any, count: Any) -> None:
    """Packets that have come one behind the other: for the replay window, which is Python's."""
    last = state[RUNS] - 1
    if last >= 0 and runs[last, 0] == flow and runs[last, 1] + runs[last, 2] == number:
        runs[last, 2] += count
    else:
        runs[last + 1, 0], runs[last + 1, 1], runs[last + 1, 2] = flow, number, count
        state[RUNS] += 1


@part
def inward(
    descriptor: Any,
    state: Any,
    flows: Any,
    spaces: Any,
    sources: Any,
    ways: Any,
    joins: Any,
    inbox: Any,
    lengths: Any,
    rows: Any,
    parts: Any,
    message: Any,
    runs: Any,
) -> Any:
    """A burst from the socket to the device."""
    total = receive(descriptor, inbox, message, state)
    if total < 0:
        # Nothing there, or a report of the network.
        return EMPTY
    size = state[SIZE]
    count = (total + size - 1) // size
    flow, number = flow_of(flows, sources, inbox, message, total)
    if flow < 0 or count > MOST_AT_ONCE or state[CLASS] & 1:
        return UNUSUAL_IN
    what = inbox, 0, total, size, flows[flow, SPI], np.uint64(number), spaces[flow], flows[flow, EXTENDED] != 0
    authentic = arrive(flows[flow, CONTEXT], *what, lengths)
    if authentic < 0:
        return UNUSUAL_IN
    state[FLOW], state[FIRST], state[AUTHENTIC] = flow, number, authentic
    state[BUDGET] -= count
    state[PACE] = 0
    if authentic:
        state[HEARD] = clock_now(message)
    if authentic < count:
        return PARTLY_IN
    note_run(state, runs, flow, number, count)
    flows[flow, HIGHEST] = number + count - 1
    usual = True
    for index in range(count):
        length, lie = lengths[index], 16 + index * size
        if length < 0:
            flows[flow, REJECTED] += 1
            continue
        flows[flow, PACKETS] += 1
        flows[flow, OCTETS] += length
        if length > 0:
            known = way_of(ways, inbox, lie, length) == flow
            usual = usual and known and not (state[CLAMP] and opens_tcp(inbox, lie, length))
    if not usual:
        return STRANGE_IN
    found = join_all(inbox, 16, size, count, lengths, joins[0] != 0, joins[1] != 0, rows)
    write_rows(np.int32(state[DEVICE]), inbox, 16, size, lengths, rows, 0, found, state[BEFORE], parts)
    return GOES_ON if total >= WORTH_MORE else EMPTY


@part
def sealed_size(length: Any) -> Any:
    """RFC 4303 §2: header, IV, padding, trailer and ICV of a combined-mode cipher."""
    return 34 + length + (-(length + 2) & 3)


@part
def seal_next(
    tunnels: Any,
    tunnel: Any,
    spaces: Any,
    octets: Any,
    at: Any,
    stride: Any,
    row: Any,
    to: Any,
    count: Any,
    length: Any,
) -> Any:
    """Seal packets of one length to ``row``, one behind the other from ``to`` on; whether the cipher did."""
    number, counter = np.uint64(tunnels[tunnel, NUMBER]), np.uint64(tunnels[tunnel, COUNTER])
    following = 41 if octets[at] >> 4 == 6 else 4
    lie = octets, at, stride, row, to + 16, sealed_size(length), count, length, following
    names = number, counter, tunnels[tunnel, SPI], spaces[tunnel], tunnels[tunnel, EXTENDED] != 0
    done = seal(tunnels[tunnel, CONTEXT], *lie, *names)
    # Whatever became of them, these are used.
    tunnels[tunnel, NUMBER] += count
    tunnels[tunnel, COUNTER] += count
    tunnels[tunnel, TAKEN] += count
    tunnels[tunnel, CARRIED] += count * length
    return done == count


@part
def seal_segments(
    tunnels: Any, tunnel: Any, spaces: Any, octets: Any, at: Any, length: Any, row: Any, sizes: Any, mark: Any
) -> Any:
    """Split a packet of many segments into ``row`` and seal them there; how many, 0 where Python is to look at it, -1
    where the cipher has refused."""
    version, kind = np.int64(octets[at] >> 4), np.int64(octets[at - 9]) & 0x7F
    size = np.int64(octets[at - 6]) | np.int64(octets[at - 5]) << 8
    transport = np.int64(octets[at - 4]) | np.int64(octets[at - 3]) << 8
    protocol, least = (17, transport + 8) if kind == 5 else (TCP, transport + 20)
    fits = kind == 5 or kind == (1 if version == 4 else 4)
    if not fits or not size or transport & 3 or transport < (20 if version == 4 else 40) or least > min(length, 120):
        return 0
    headers = transport + np.int64(octets[at + transport + 12] >> 4) * 4 if protocol == TCP else least
    if not least <= headers < length or headers + size > tunnels[tunnel, LIMIT]:
        return 0
    count, each = (length - headers + size - 1) // size, sealed_size(headers + size)
    if count > SEGMENTS or count * each > ROOM_IN_PIECE or count > len(sizes):
        return 0
    shape = at, length, version, protocol, transport, headers, size
    last = split(octets, *shape, 0, count, row, 16, each)
    full = count if last == headers + size else count - 1
    good = seal_next(tunnels, tunnel, spaces, row, 16, each, row, 0, full, headers + size) if full else True
    if full < count:
        place = full * each
        good = good and seal_next(tunnels, tunnel, spaces, row, 16 + place, each, row, place, 1, last)
    for index in range(count):
        sizes[index, 0], sizes[index, 1] = each, mark
    sizes[count - 1, 0] = sealed_size(last)
    return count if good else -1


@part
def goes_alone(state: Any, tunnels: Any, tunnel: Any, slots: Any, lie: Any, length: Any, number: Any) -> Any:
    """Whether a packet by itself may go as it is."""
    if state[CLAMP] and opens_tcp(slots, lie, length):
        return False
    has_place = not number & 1 or (number >> 16 & 0xFFFF) + (number >> 32) + 2 <= length
    return has_place and length <= tunnels[tunnel, LIMIT]


@part
def read_out(state: Any, slots: Any, at: Any, rows: Any, message: Any) -> Any:
    """What the device has; where small packets follow one another closely, others are given time to come."""
    if clock_now(message) - state[ENDED] < NEAR and FEW < state[PACE] < MANY:
        message[CLOCK], message[CLOCK + 1] = 0, PAUSE
        _sleep(message.ctypes.data + 8 * CLOCK, 0)
    place = state[STRIDE], state[BEFORE], state[ROOM], state[LONGEST], state[MOST]
    return read_many(np.int32(state[DEVICE]), slots, at, *place, rows)


@part
def outward(
    state: Any,
    tunnels: Any,
    spaces: Any,
    targets: Any,
    ways: Any,
    marks: Any,
    slots: Any,
    at: Any,
    rows: Any,
    row: Any,
    sizes: Any,
    message: Any,
) -> Any:
    """What the device has, sealed, to the socket."""
    stride, count = state[STRIDE], read_out(state, slots, at, rows, message)
    if not count:
        return EMPTY
    index = sealed = begin = pieces = 0
    tunnel, end = -1, GOES_ON
    while index < count:
        length, number, lie = rows[index, 0], rows[index, 1], at + index * stride
        known, is_piece = way_of(ways, slots, lie, length), number & KIND != 0
        if known < 0 or not (is_piece or goes_alone(state, tunnels, known, slots, lie, length, number)):
            end = UNUSUAL_OUT
            break
        mark, each = np.int64(marks[class_at(slots, lie)]), sealed_size(length)
        full = is_piece or known != tunnel or begin + each > ROOM_IN_PIECE or sealed == len(sizes)
        if full and sealed:
            if not flush(tunnels, tunnel, targets, row, sizes, sealed, message, state):
                end, sealed = NOT_SENT, 0
                break
            sealed = begin = 0
        tunnel = known
        if is_piece:
            sealed = seal_segments(tunnels, tunnel, spaces, slots, lie, length, row, sizes, mark)
            if sealed <= 0:
                end, sealed = REFUSED if sealed else UNUSUAL_OUT, 0
                break
            pieces, begin = pieces + sealed, ROOM_IN_PIECE
        else:
            if number & 1:
                finish(slots, lie, stride, 1, length, number >> 16 & 0xFFFF, number >> 32)
            if not seal_next(tunnels, tunnel, spaces, slots, lie, stride, row, begin, 1, length):
                end, sealed = REFUSED, 0
                break
            sizes[sealed, 0], sizes[sealed, 1] = each, mark
            sealed, begin = sealed + 1, begin + each
        index += 1
    if sealed and not flush(tunnels, tunnel, targets, row, sizes, sealed, message, state):
        end = NOT_SENT
    state[BEGIN], state[COUNT] = index, count
    state[BUDGET] -= count + pieces
    # Large pieces are company enough.
    state[PACE] += ((count << 8 if not pieces else 0) - state[PACE]) // 4
    state[ENDED] = clock_now(message)
    return EMPTY if end == GOES_ON and count < PIECES and not pieces else end


@part
def wait(state: Any, waiting: Any, message: Any) -> Any:
    """Until one of the three can be read, or the time is over; whether one can."""
    left = -1
    if state[DEADLINE] >= 0:
        left = max(0, (state[DEADLINE] - clock_now(message) + 999_999) // 1_000_000)
    for index in range(3):
        waiting[index] = waiting[index] & 0xFFFFFFFF | POLL_IN << 32
    return poll(waiting.ctypes.data, 3, min(left, 1 << 30)) > 0


@part
def is_over(state: Any, waiting: Any, message: Any) -> Any:
    """Whether Python is to hear of something."""
    if waiting[OTHERS] >> 48 or state[BUDGET] <= 0 or state[RUNS] > NOTED - BURSTS:
        return True
    return state[DEADLINE] >= 0 and clock_now(message) >= state[DEADLINE]


@compiled_alone(
    "i8(i8[::1], i8[::1], i8[:, ::1], u1[:, ::1], u1[:, ::1], u1[:, ::1], i8[::1], i8[:, ::1], u1[:, ::1], u1[:, ::1], "
    "u1[:, ::1], u1[::1], u1[::1], i8, i8[:, ::1], u1[::1], i8[:, ::1], u1[::1], i8[::1], i8[:, ::1], i8[:, ::1], "
    "i8[::1], i8[:, ::1])"
)
def carry(
    state: Any,
    waiting: Any,
    flows: Any,
    flow_spaces: Any,
    sources: Any,
    ways_in: Any,
    joins: Any,
    tunnels: Any,
    tunnel_spaces: Any,
    targets: Any,
    ways_out: Any,
    marks: Any,
    slots: Any,
    at: Any,
    rows: Any,
    row: Any,
    sizes: Any,
    inbox: Any,
    lengths: Any,
    joined: Any,
    parts: Any,
    message: Any,
    runs: Any,
) -> Any:
    """Wait, and carry packets both ways, until there is something for Python; what that is.

    Other threads of Python go on meanwhile.
    """
    socket = np.int32(waiting[INWARDS] & 0xFFFFFFFF)
    into = state, flows, flow_spaces, sources, ways_in, joins, inbox, lengths, joined, parts, message, runs
    out = state, tunnels, tunnel_spaces, targets, ways_out, marks, slots, at, rows, row, sizes, message
    while wait(state, waiting, message):
        end = EMPTY
        if waiting[INWARDS] >> 48:
            for _ in range(BURSTS):
                end = inward(socket, *into)
                if end != GOES_ON:
                    break
            if end < GOES_ON:
                return end
        if waiting[OUTWARDS] >> 48 & POLL_IN:
            for _ in range(PIECES):
                end = outward(*out)
                if end != GOES_ON:
                    break
            if end < GOES_ON:
                return end
        elif waiting[OUTWARDS] >> 48:
            # The device is gone.
            state[BEGIN] = state[COUNT] = 0
            return UNUSUAL_OUT
        if is_over(state, waiting, message):
            break
    return NOTHING
