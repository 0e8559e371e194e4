"""What Python and the loops tell each other: columns of arrays of numbers, and why the loops have ended."""

from __future__ import annotations

DEVICE, BEFORE, STRIDE, MOST, LONGEST, ROOM, CLAMP, DEADLINE, BUDGET = range(9)
"""The device's descriptor and header; slots and what fits into them; whether segment sizes are lowered; until when to
wait, in nanoseconds of the monotonic clock, -1 for ever; how many packets may be carried before Python is told."""
TOTAL, SIZE, CLASS, FLOW, FIRST, AUTHENTIC = range(9, 15)
"""A burst that is left to Python."""
BEGIN, COUNT, SENT, SEALED, TUNNEL, PLACE = range(15, 21)
"""Rows that are left to Python; and what was sealed and not sent: from which packet on, until which, whose, where."""
RUNS, PACE, ENDED, HEARD, STATE = range(21, 26)
"""How many runs were noted; how many packets a turn outwards has had of late, times 256, and when it ended; when
something authentic has come last."""
FLOWS = TUNNELS = 8
SPI, CONTEXT, EXTENDED = range(3)
"""Of an SA."""
HIGHEST, PACKETS, OCTETS, REJECTED, SOURCE, OF_FLOW = range(3, 9)
"""Of an inbound SA besides; ``SOURCE``: octets of the address that its packets come from."""
NUMBER, COUNTER, LIMIT, SOCKET, SPLITS, TARGET, TAKEN, CARRIED, OF_TUNNEL = range(3, 12)
"""Of a tunnel, besides its outbound SA: next numbers; the longest packet; the socket and whether that takes many
datagrams; octets of the peer's address; how many numbers were taken, for how many octets."""
ADDRESS = 32
"""Octets of a socket address."""
IN_HEADER, IN_PIECE, IN_MARKS, IN_NAME = 0, 7, 9, 25
OUT_HEADER, OUT_PIECE, OUT_MARKS = 29, 36, 38
CLOCK, MESSAGE = 44, 48
"""Words of what the system's calls are given: message headers, pieces, control messages, a name, a time."""
INWARDS, OUTWARDS, OTHERS = range(3)
"""What is waited for: socket, device, and what Python waits for besides."""
NOTHING, UNUSUAL_IN, PARTLY_IN, STRANGE_IN, UNUSUAL_OUT, NOT_SENT, REFUSED = range(7)
"""Why :func:`carry` has ended: nothing for Python but its own; a burst that is unlike; one of which not everything was
authentic; one of unknown ways; rows that are unlike; datagrams that the network refused; a cipher that did."""
GOES_ON, EMPTY = 16, 17

PIECES = 4
"""Turns outwards, before it is looked at what has come in."""
NOTED = 512
"""Runs."""
