"""Loops over ESP packets in a byte stream, each behind a length that counts itself (RFC 9329 §3), both ways."""

from __future__ import annotations

from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.carry import IN_FRONT, fits_alone, open_one, outbound_sa, seal_segments
from zesty_burrow.carrier.fast_path.loops.device import KIND, write_joined
from zesty_burrow.carrier.fast_path.loops.esp import SCRATCH, seal, sealed_size
from zesty_burrow.carrier.fast_path.loops.inner import clamp, class_at
from zesty_burrow.carrier.fast_path.loops.join import ROW, join_all
from zesty_burrow.carrier.fast_path.loops.octets import compiled, copy, get16, get32, part, put
from zesty_burrow.carrier.fast_path.loops.records import (
    INBOUND_SA,
    INBOUND_STATE,
    OUTBOUND_SA,
    OUTBOUND_STATE,
    RANGE,
    STATE,
    Packets,
    Receiving,
    Sending,
    Tables,
)
from zesty_burrow.carrier.fast_path.loops.split import finish

LENGTH = 2
MORE, LEFT, BROKEN = 0, 1, 2
"""Why the loop has ended: the rest is yet to come; a message that is Python's; a length that cannot be."""
FAILED = -1
_octets, _numbers = np.zeros(1, np.uint8), np.zeros((1, 2), np.int64)
_records = [np.zeros(1, one) for one in (INBOUND_SA, INBOUND_STATE, OUTBOUND_SA, OUTBOUND_STATE, RANGE)]
_sending = Sending(_octets, _numbers, _octets, _numbers, _octets, np.zeros(SCRATCH, np.uint8))
_receiving = Receiving(
    _octets, np.zeros(1, np.int64), np.zeros((1, ROW), np.int64), _numbers, np.zeros(SCRATCH, np.uint8)
)


@compiled(np.zeros(1, STATE), Tables(*_records), _sending, 0, 0, _octets, 0)
def seal_framed(states: Any, tables: Any, sending: Any, length: Any, number: Any, out: Any, place: Any) -> Any:
    """Seal the packet in the first slot, one or many in one piece, to ``out`` from ``place`` on.

    ``number``: its offload, as one number. How many packets, the row of the SA, and where they end; 0 packets where
    Python has to look at it, ``FAILED`` where the cipher has.
    """
    state, slots = states[0], sending.slots
    lie = state.first
    nothing = np.int64(0), np.int64(-1), np.int64(place)
    row = outbound_sa(tables, sending, lie, length, 0)
    if row < 0:
        return nothing
    sa, sa_state = tables.outbound[row], tables.outbound_states[row]
    count = np.int64(1)
    if number & KIND:
        count = np.int64(
            seal_segments(sa, sa_state, sending, lie, length, np.int64(sending.marks[class_at(slots, lie)]))
        )
        if count <= 0:
            return (np.int64(FAILED) if count else np.int64(0)), np.int64(row), np.int64(place)
    else:
        if not fits_alone(sa, sa_state, length, number):
            return nothing
        if number & 1:
            finish(slots, lie, state.stride, 1, length, number >> 16 & 0xFFFF, number >> 32)
        if state.clamp:
            clamp(slots, lie, length, min(state.clamp, sa.limit))
        packets = Packets(slots, lie, state.stride, 1, length)
        if not seal(sa, sa_state, packets, sending.sealed, 0, sending.scratch):
            return np.int64(FAILED), np.int64(row), np.int64(place)
        sending.sizes[0, 0] = sealed_size(length)
    each, at = sending.sizes[0, 0], np.int64(place)
    for index in range(count):
        size = sending.sizes[index, 0]
        put(out, at, size + LENGTH, LENGTH)
        copy(out, at + LENGTH, sending.sealed, index * each, size)
        at += LENGTH + size
    sa.last = 1
    return count, np.int64(row), at


@part
def row_of(tables: Any, spi: Any, known: Any) -> Any:
    """The row of an inbound SA; -1 if no SA fits. ``known``: tried first."""
    if known >= 0 and tables.inbound[known].spi == spi:
        return known
    for row in range(len(tables.inbound)):
        if tables.inbound[row].spi == spi and tables.inbound[row].context:
            return row
    return -1


@compiled(np.zeros(1, STATE), Tables(*_records), _receiving, 0, 0)
def open_framed(states: Any, tables: Any, receiving: Any, at: Any, end: Any) -> Any:
    """Open the ESP packets of a stream from ``at`` to ``end`` and hand them to the device, joined where they fit.

    Why it has ended, and where. SAs by which something authentic came have ``last`` set to 1.
    """
    state, inbox, lengths = states[0], receiving.inbox, receiving.lengths
    most, row = len(lengths), -1
    state.mark = 0
    while True:
        if at + LENGTH > end:
            return np.int64(MORE), np.int64(at)
        size = get16(inbox, at)
        if size < LENGTH:
            return np.int64(BROKEN), np.int64(at)
        begin, count, place = at, 0, at
        # A run of messages of one length, of which the last may be shorter.
        while count < most and place + LENGTH <= end:
            own = get16(inbox, place)
            if own > size or own <= LENGTH + 4 or place + own > end:
                break
            row = row_of(tables, get32(inbox, place + LENGTH), row)
            if row < 0:
                break
            length = open_one(row, place + LENGTH, own - LENGTH, state, tables, receiving)
            lengths[count] = length
            if length > -2:
                tables.inbound[row].last = 1
            count, place = count + 1, place + own
            if own < size:
                break
        if not count:
            return np.int64(MORE if at + size > end else LEFT), np.int64(at)
        first = begin + LENGTH + IN_FRONT
        found = join_all(
            inbox, first, size, count, lengths, state.joins_tcp != 0, state.joins_udp != 0, receiving.joined
        )
        write_joined(state, receiving, found, first, size)
        at = place
