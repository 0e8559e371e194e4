"""Columns of many packets at a time, and their checksums (RFC 1071).

Sums are kept as any number that leaves the right remainder by 65535: the one's complement sum of 16-bit words is that
remainder, a 32-bit word counts as the sum of its halves, and swapping the octets of a sum is multiplying it by 256.
"""

from __future__ import annotations

import functools
from typing import Any

import numpy as np
import numpy.typing as npt

Octets = npt.NDArray[np.uint8]
Numbers = npt.NDArray[np.uint64]

MODULUS = 0xFFFF


def columns(octets: Octets, offset: int, count: int, stride: int, width: int) -> Octets:
    """A view of ``width`` octets of each of ``count`` packets that begin ``stride`` apart."""
    return np.ndarray((count, width), np.uint8, octets.data, offset, (stride, 1))


def numbers(octets: Octets, offset: int, count: int, stride: int, kind: str) -> npt.NDArray[Any]:
    """A view of one number of each packet; ``kind`` as NumPy names types, such as ``>u2``."""
    return np.ndarray((count,), kind, octets.data, offset, (stride,))


def sums_of(octets: Octets, offset: int, count: int, stride: int, width: int) -> Numbers:
    """The sum of ``width`` octets of each packet as 16-bit words in network order, below 2^50.

    Summed as 32-bit words in the machine's order and swapped at the end (RFC 1071 §2.B). What is left behind the last
    whole word is added by itself.
    """
    words = np.ndarray((count, width // 4), "<u4", octets.data, offset, (stride, 4))
    sums = np.add.reduce(words, axis=1, dtype=np.uint64)
    for place in range(width & ~3, width):
        sums += numbers(octets, offset + place, count, stride, "u1").astype(np.uint64) << np.uint64(8 * (place & 1))
    return np.asarray(sums * 256, np.uint64)


@functools.lru_cache(maxsize=64)
def rising(count: int, headers: int, transport: int, size: int, *, counted: bool, tcp: bool) -> npt.NDArray[np.uint32]:
    """What the headers of segments of one packet have more than the first one's, as 32-bit words, a row for each.

    TCP's sequence number rises by ``size``; where it is ``counted``, IPv4's identification by one, and the header's
    checksum falls by one with it.
    """
    found = np.zeros((count, headers // 4), np.uint32)
    steps = np.arange(count, dtype=np.uint32)
    if counted:
        found[:, 1] = steps << 16
        found[:, 2] = -steps.astype(np.int64) & 0xFFFFFFFF
    if tcp:
        found[:, transport // 4 + 1] = steps * size
    return found
