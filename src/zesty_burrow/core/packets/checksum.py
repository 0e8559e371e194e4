"""The Internet checksum (RFC 1071)."""

from __future__ import annotations

Buffer = bytes | bytearray | memoryview


def word_sum(data: Buffer) -> int:
    """The one's complement sum of big-endian 16-bit words, an odd octet padded with zero: the checksum's complement.

    A number in base 65536 and the sum of its digits leave the same remainder by 65535; 0 stands only for all zeros.
    """
    value = int.from_bytes(data) << (8 if len(data) & 1 else 0)
    return value % 0xFFFF or (0xFFFF if value else 0)


def checksum(data: Buffer) -> int:
    """The 16-bit checksum of ``data`` (RFC 1071 §1)."""
    return 0xFFFF - word_sum(data)
