"""Variable-length integers (RFC 9000 §16): the two highest bits say how many octets there are."""

from __future__ import annotations

MOST = (1 << 62) - 1


def write_varint(value: int) -> bytes:
    """In as few octets as possible. ``ValueError`` where it is negative or has more than 62 bits."""
    for size, bits in ((1, 6), (2, 14), (4, 30), (8, 62)):
        if 0 <= value < 1 << bits:
            return (value | (size.bit_length() - 1) << (8 * size - 2)).to_bytes(size)
    raise ValueError(f"{value} does not fit into 62 bits")


def read_varint(data: bytes | bytearray | memoryview, at: int) -> tuple[int, int]:
    """The number at an offset and where it ends; -1 and ``at`` where octets are missing."""
    if at >= len(data):
        return -1, at
    size = 1 << (data[at] >> 6)
    if at + size > len(data):
        return -1, at
    return int.from_bytes(data[at : at + size]) & ((1 << (8 * size - 2)) - 1), at + size
