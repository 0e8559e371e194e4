"""Packets from and to the tunnel device.

What the device refuses (it is down, or its queue is full) is lost as on any other link.
"""

from __future__ import annotations

import ctypes
from typing import Any

import numpy as np

from zesty_burrow.carrier.fast_path.loops.octets import TCP, get16, part, put
from zesty_burrow.carrier.fast_path.loops.records import Receiving, Record, Sending
from zesty_burrow.carrier.fast_path.symbols import NUMBER, POINTER, function

_system = ctypes.CDLL(None)
_read = function(_system, "read", POINTER, NUMBER, POINTER, POINTER)
_write = function(_system, "write", POINTER, NUMBER, POINTER, POINTER)
_writev = function(_system, "writev", POINTER, NUMBER, POINTER, NUMBER)
ROW = 2
"""Numbers of a row: a packet's length, and its offload as one number, 0 for none."""
KIND = 0xFF00
"""Of an offload's number: whether there are many segments."""


@part
def read_many(state: Record, sending: Sending) -> Any:
    """Read packets into the slots; how many there were, a row for each.

    One that is longer than a slot, or has many segments, is the last, as it may fill the places behind its own: each
    has ``room`` until the end.
    """
    octets, rows = sending.slots, sending.reads
    base, found, before = octets.ctypes.data, 0, state.header
    for index in range(state.slots):
        place = state.first + index * state.stride
        length = _read(np.int32(state.device), base + place - before, state.room + before) - before
        if length < 0:
            # Nothing there; or the device is down for the moment.
            break
        number = 0
        if before:
            # VIRTIO 1.2 §5.1.6: flags and kind; behind lengths, where a checksum begins and where it is put.
            number = get16(octets, place - 10) >> 8 & 1 | (get16(octets, place - 10) & 0xFF) << 8
            if number:
                start = np.int64(octets[place - 4]) | np.int64(octets[place - 3]) << 8
                number |= start << 16 | (np.int64(octets[place - 2]) | np.int64(octets[place - 1]) << 8) << 32
        rows[index, 0], rows[index, 1] = length, number
        found += 1
        if number & KIND or length > state.longest:
            break
    return found


@part
def write_joined(state: Record, receiving: Receiving, found: Any, at: Any, stride: Any) -> None:
    """Write packets that lie ``stride`` apart from ``at`` on, in the pieces that ``found`` rows of ``joined`` say.

    There is room for an offload header in front of each.
    """
    octets, lengths, rows, parts = receiving.inbox, receiving.lengths, receiving.joined, receiving.parts
    base, before, descriptor = octets.ctypes.data, state.header, np.int32(state.device)
    for row in range(found):
        one, behind, headers, version, protocol = rows[row]
        lead = at + one * stride
        if not version:
            for index in range(one, behind):
                place = at + index * stride - before
                put(octets, place, 0, before)
                if lengths[index] > 0:
                    _write(descriptor, base + place, before + lengths[index])
            continue
        # VIRTIO 1.2 §5.1.6; little-endian.
        is_tcp, size = protocol == TCP, lengths[one] - headers
        transport = 20 if version == 4 else 40
        place = lead - before
        octets[place] = 0 if is_tcp else 1
        octets[place + 1] = (1 if version == 4 else 4) if is_tcp else 5
        octets[place + 2], octets[place + 3] = headers & 0xFF, headers >> 8
        octets[place + 4], octets[place + 5] = size & 0xFF, size >> 8
        octets[place + 6], octets[place + 7] = 0 if is_tcp else transport, 0
        octets[place + 8], octets[place + 9] = 0 if is_tcp else 6, 0
        parts[0, 0], parts[0, 1] = base + place, before + lengths[one]
        for index in range(one + 1, behind):
            parts[index - one, 0] = base + at + index * stride + headers
            parts[index - one, 1] = lengths[index] - headers
        _writev(descriptor, parts.ctypes.data, behind - one)
