"""Waits for packets of a tunnel device and of a socket, and carries those of known SAs whose cipher is known here.

Everything else is left to the caller.
"""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.device import KIND, read_many, write_joined
from zesty_burrow.carrier.fast_path.loops.esp import LEFT, SCRATCH, seal, sealed_size, unseal
from zesty_burrow.carrier.fast_path.loops.inner import addresses_at, allowed, clamp, class_at, take_congestion
from zesty_burrow.carrier.fast_path.loops.join import ROW, join_all
from zesty_burrow.carrier.fast_path.loops.network import comes_from, flush, poll, receive
from zesty_burrow.carrier.fast_path.loops.octets import TCP, compiled, get32, part
from zesty_burrow.carrier.fast_path.loops.records import (
    CIPHER_FAILED,
    CLOCK,
    DEVICE,
    EMPTY,
    GOES_ON,
    INBOUND_LEFT,
    INBOUND_SA,
    INBOUND_STATE,
    MESSAGE,
    MOST_AT_ONCE,
    NOTHING,
    OTHERS,
    OUTBOUND_LEFT,
    OUTBOUND_SA,
    OUTBOUND_STATE,
    POLL,
    RANGE,
    SOCKET,
    STATE,
    TURNS,
    Numbers,
    Packets,
    Receiving,
    Record,
    Records,
    Sending,
    Tables,
)
from zesty_burrow.carrier.fast_path.loops.split import finish, split
from zesty_burrow.carrier.fast_path.symbols import NUMBER as INTEGER
from zesty_burrow.carrier.fast_path.symbols import POINTER, function
from zesty_burrow.host.udp import BURSTS, ROOM_IN_PIECE, SEGMENTS, WORTH_MORE

_system = ctypes.CDLL(None)
_clock = function(_system, "clock_gettime", INTEGER, INTEGER, POINTER)
_sleep = function(_system, "nanosleep", INTEGER, POINTER, POINTER)
MONOTONIC, POLL_IN = 1, 1
FEW, MANY = 3 * 256, 48 * 256
"""Packets a turn between which it is worth a pause to let others come: fewer are hardly a stream, more are enough."""
NEAR, PAUSE = 300_000, 100_000
"""Nanoseconds after a turn in which the next one counts as right behind it; and how long a pause is."""
IN_FRONT = 16
"""Octets of ESP header and IV before the sealed part."""


@part
def clock_now(message: Numbers) -> Any:
    """Nanoseconds of the monotonic clock."""
    _clock(MONOTONIC, message.ctypes.data + 8 * CLOCK)
    return message[CLOCK] * 1_000_000_000 + message[CLOCK + 1]


# From the socket to the device.


@part
def inbound_sa(tables: Tables, spi: Any, known: Any, message: Numbers) -> Any:
    """The row of an inbound SA whose peer this burst comes from; -1 if no SA fits. ``known``: tried first."""
    if known >= 0 and tables.inbound[known].spi == spi:
        return known
    for row in range(len(tables.inbound)):
        sa = tables.inbound[row]
        if sa.spi == spi and sa.context and comes_from(message, sa):
            return row
    return -1


@part
def open_one(row: Any, place: Any, size: Any, state: Record, tables: Tables, receiving: Receiving) -> Any:
    """Open the ESP packet at ``place``; the length of an inner packet that may go to the device, else 0 or below."""
    sa, inbox, at = tables.inbound[row], receiving.inbox, place + IN_FRONT
    length = unseal(sa, tables.inbound_states[row], inbox, place, size, receiving.scratch)
    if length <= 0:
        return length
    begin, width = addresses_at(inbox, at, length)
    good = width > 0 and (not state.mark & 1 or take_congestion(inbox, at, length, state.mark))
    if not good or not allowed(inbox, begin + width, begin, width, sa, tables.ranges):
        state.dropped += 1
        return np.int64(0)
    if state.clamp:
        clamp(inbox, at, length, state.clamp)
    return length


@part
def inbound(descriptor: Any, state: Record, tables: Tables, receiving: Receiving, message: Numbers) -> Any:
    """A burst from the socket to the device."""
    inbox, lengths = receiving.inbox, receiving.lengths
    total = receive(descriptor, inbox, message, state)
    if total < 0:
        # Nothing there, or a report of the network.
        return EMPTY
    size = state.size
    count, row, taken, authentic = (total + size - 1) // size, -1, 0, False
    while taken < min(count, MOST_AT_ONCE):
        place = taken * size
        own = min(size, total - place)
        row = inbound_sa(tables, get32(inbox, place) if own > 4 else 0, row, message)
        if row < 0:
            break
        length = open_one(row, place, own, state, tables, receiving)
        if length == LEFT:
            break
        lengths[taken] = length
        taken += 1
        if length > -2:
            authentic = True
            tables.inbound[row].last = 1
    if authentic:
        now = clock_now(message)
        for index in range(len(tables.inbound)):
            if tables.inbound[index].last == 1:
                tables.inbound[index].last = now
    state.budget -= count
    state.pace = 0
    found = join_all(
        inbox, IN_FRONT, size, taken, lengths, state.joins_tcp != 0, state.joins_udp != 0, receiving.joined
    )
    write_joined(state, receiving, found, IN_FRONT, size)
    if taken < count:
        state.begin = taken * size
        return INBOUND_LEFT
    return GOES_ON if total >= WORTH_MORE else EMPTY


# From the device to the socket.


@part
def outbound_sa(tables: Tables, sending: Sending, at: Any, length: Any, known: Any) -> Any:
    """The row of the SA by which a packet goes out; -1 where that is for Python to say. ``known``: tried first."""
    begin, width = addresses_at(sending.slots, at, length)
    if not width:
        return -1
    if known == 0 and allowed(sending.slots, begin, begin + width, width, tables.outbound[0], tables.ranges):
        return 0
    for row in range(len(tables.outbound)):
        if allowed(sending.slots, begin, begin + width, width, tables.outbound[row], tables.ranges):
            return row if tables.outbound[row].context else -1
    return -1


@part
def seal_segments(sa: Record, sa_state: Record, sending: Sending, at: Any, length: Any, mark: Any) -> Any:
    """Split a packet of many segments and seal them; how many, 0 where it is left to Python, -1 where the cipher
    failed."""
    octets, sealed, sizes = sending.slots, sending.sealed, sending.sizes
    version, kind = np.int64(octets[at] >> 4), np.int64(octets[at - 9]) & 0x7F
    size = np.int64(octets[at - 6]) | np.int64(octets[at - 5]) << 8
    transport = np.int64(octets[at - 4]) | np.int64(octets[at - 3]) << 8
    protocol, least = (17, transport + 8) if kind == 5 else (TCP, transport + 20)
    fits = kind == 5 or kind == (1 if version == 4 else 4)
    if not fits or not size or transport & 3 or transport < (20 if version == 4 else 40) or least > min(length, 120):
        return 0
    headers = transport + np.int64(octets[at + transport + 12] >> 4) * 4 if protocol == TCP else least
    if not least <= headers < length or headers + size > sa.limit:
        return 0
    count, each = (length - headers + size - 1) // size, sealed_size(headers + size + sa.in_front)
    if count > SEGMENTS or count * each > ROOM_IN_PIECE or count > len(sizes) or not has_numbers(sa, sa_state, count):
        return 0
    shape = at, length, version, protocol, transport, headers, size
    begin = IN_FRONT + sa.in_front
    last = split(octets, *shape, 0, count, sealed, begin, each)
    full = count if last == headers + size else count - 1
    good = True
    if full:
        packets = Packets(sealed, begin, each, full, headers + size)
        good = seal(sa, sa_state, packets, sealed, 0, sending.scratch)
    if full < count and good:
        packets = Packets(sealed, begin + full * each, each, 1, last)
        good = seal(sa, sa_state, packets, sealed, full * each, sending.scratch)
    for index in range(count):
        sizes[index, 0], sizes[index, 1] = each, mark
    sizes[count - 1, 0] = sealed_size(last + sa.in_front)
    return count if good else -1


@part
def has_numbers(sa: Record, sa_state: Record, count: Any) -> Any:
    """Whether so many sequence numbers may yet be used here."""
    return sa_state.sequence + np.uint64(count) <= sa.last_number


@part
def fits_alone(sa: Record, sa_state: Record, length: Any, number: Any) -> Any:
    """Whether a packet by itself may go as it is: not too long, and its checksum's place within it."""
    has_place = not number & 1 or (number >> 16 & 0xFFFF) + (number >> 32) + 2 <= length
    return has_place and length <= sa.limit and has_numbers(sa, sa_state, 1)


@part
def read_out(state: Record, sending: Sending, message: Numbers) -> Any:
    """What the device has; where small packets follow one another closely, others are given time to come."""
    if clock_now(message) - state.ended < NEAR and FEW < state.pace < MANY:
        message[CLOCK], message[CLOCK + 1] = 0, PAUSE
        _sleep(message.ctypes.data + 8 * CLOCK, 0)
    return read_many(state, sending)


@part
def note_sent(state: Record, tables: Tables, message: Numbers) -> None:
    """When a turn outwards ended, and by which SAs something went out."""
    state.ended = clock_now(message)
    for row in range(len(tables.outbound)):
        if tables.outbound[row].last == 1:
            tables.outbound[row].last = state.ended
            if tables.outbound_states[row].octets >= tables.outbound[row].octet_limit:
                state.budget = 0


@part
def outbound(state: Record, tables: Tables, sending: Sending, message: Numbers) -> Any:
    """What the device has, sealed, to the socket."""
    count, slots, sizes = read_out(state, sending, message), sending.slots, sending.sizes
    if not count:
        return EMPTY
    index = sealed = place = pieces = 0
    current, end = -1, GOES_ON
    while index < count:
        length, number = sending.reads[index, 0], sending.reads[index, 1]
        lie, is_piece = state.first + index * state.stride, number & KIND != 0
        row = outbound_sa(tables, sending, lie, length, current)
        if row < 0 or not (is_piece or fits_alone(tables.outbound[row], tables.outbound_states[row], length, number)):
            end = OUTBOUND_LEFT
            break
        mark = np.int64(sending.marks[class_at(slots, lie)])
        each = sealed_size(length + tables.outbound[row].in_front)
        full = is_piece or row != current or place + each > ROOM_IN_PIECE or sealed == len(sizes)
        if full and sealed:
            flush(tables.outbound[current], sending, sealed, message, state)
            sealed = place = 0
        current = row
        sa, sa_state = tables.outbound[row], tables.outbound_states[row]
        sa.last = 1
        if is_piece:
            sealed = seal_segments(sa, sa_state, sending, lie, length, mark)
            if sealed <= 0:
                end, sealed = CIPHER_FAILED if sealed else OUTBOUND_LEFT, 0
                break
            pieces, place = pieces + sealed, ROOM_IN_PIECE
        else:
            if number & 1:
                finish(slots, lie, state.stride, 1, length, number >> 16 & 0xFFFF, number >> 32)
            if state.clamp:
                clamp(slots, lie, length, min(state.clamp, sa.limit))
            packets = Packets(slots, lie, state.stride, 1, length)
            if not seal(sa, sa_state, packets, sending.sealed, place, sending.scratch):
                end = CIPHER_FAILED
                break
            sizes[sealed, 0], sizes[sealed, 1] = each, mark
            sealed, place = sealed + 1, place + each
        index += 1
    if sealed and current >= 0:
        flush(tables.outbound[current], sending, sealed, message, state)
    state.left_begin, state.left_end = index, count
    state.budget -= count + pieces
    # Large pieces are company enough.
    state.pace += ((count << 8 if not pieces else 0) - state.pace) // 4
    note_sent(state, tables, message)
    return EMPTY if end == GOES_ON and count < TURNS and not pieces else end


# Both.


@part
def wait(state: Record, message: Numbers) -> Any:
    """Until one of the three descriptors can be read, or the time is over; whether one can."""
    left = -1
    if state.deadline >= 0:
        left = max(0, (state.deadline - clock_now(message) + 999_999) // 1_000_000)
    for index in range(POLL, POLL + 3):
        message[index] = message[index] & 0xFFFFFFFF | POLL_IN << 32
    return poll(message.ctypes.data + 8 * POLL, 3, min(left, 1 << 30)) > 0


@part
def is_over(state: Record, message: Numbers) -> Any:
    """Whether Python has something to do."""
    if message[OTHERS] >> 48 or state.budget <= 0 or state.unsent:
        return True
    return state.deadline >= 0 and clock_now(message) >= state.deadline


_octets, _numbers = np.zeros(1, np.uint8), np.zeros((1, 2), np.int64)
_records = [np.zeros(1, one) for one in (INBOUND_SA, INBOUND_STATE, OUTBOUND_SA, OUTBOUND_STATE, RANGE)]


@compiled(
    np.zeros(1, STATE),
    Tables(*_records),
    Receiving(_octets, np.zeros(1, np.int64), np.zeros((1, ROW), np.int64), _numbers, np.zeros(SCRATCH, np.uint8)),
    Sending(_octets, _numbers, _octets, _numbers, _octets, np.zeros(SCRATCH, np.uint8)),
    np.zeros(MESSAGE, np.int64),
)
def carry(states: Records, tables: Tables, receiving: Receiving, sending: Sending, message: Numbers) -> Any:
    """Wait, and carry packets both ways, until there is something for Python; what that is.

    ``states``: one record of ``STATE``. Other threads of Python go on meanwhile.
    """
    state, socket = states[0], np.int32(message[SOCKET] & 0xFFFFFFFF)
    while wait(state, message):
        end = EMPTY
        if message[SOCKET] >> 48:
            for _ in range(BURSTS):
                end = inbound(socket, state, tables, receiving, message)
                if end != GOES_ON:
                    break
            if end < GOES_ON:
                return end
        if message[DEVICE] >> 48 & POLL_IN:
            for _ in range(TURNS):
                end = outbound(state, tables, sending, message)
                if end != GOES_ON:
                    break
            if end < GOES_ON:
                return end
        elif message[DEVICE] >> 48:
            # The device is gone.
            state.left_begin = state.left_end = 0
            return OUTBOUND_LEFT
        if is_over(state, message):
            break
    return NOTHING
