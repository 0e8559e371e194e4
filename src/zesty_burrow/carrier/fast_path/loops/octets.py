"""What all loops are made of: numbers, copies and sums in buffers of octets, and the compiler.

What is compiled is kept on disk by the file that it is in, although it has parts of other files in it: so it is
kept in a folder that is named after all of them, which whoever imports this first has to choose (compile_cache).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numpy as np
from llvmlite import ir
from numba import njit, typeof, types
from numba.extending import intrinsic

MODULUS = 0xFFFF
TCP = 6

F = TypeVar("F", bound=Callable[..., Any])


def compiled(*arguments: Any) -> Callable[[F], F]:
    """Machine code for arguments of the types of these, kept on disk. Other threads of Python go on while it runs."""

    def compile_it(function: F) -> F:
        signature = tuple(typeof(one) for one in arguments)  # type: ignore[no-untyped-call]
        return cast(F, njit(signature, cache=True, error_model="numpy", nogil=True)(function))

    return compile_it


def part(function: F) -> F:
    """What is compiled into the loops that use it."""
    return cast(F, njit(error_model="numpy")(function))


# Places are made unsigned, as a signed one would first be asked whether it counts from the end.


@part
def get16(octets: Any, at: Any) -> Any:
    place = np.uintp(at)
    return np.int64(octets[place]) << 8 | np.int64(octets[place + np.uintp(1)])


@part
def get32(octets: Any, at: Any) -> Any:
    return get16(octets, at) << 16 | get16(octets, at + 2)


@part
def put(octets: Any, at: Any, value: Any, width: Any) -> None:
    for index in range(width):
        octets[np.uintp(at + index)] = value >> 8 * (width - 1 - index) & 0xFF


@part
def copy(octets: Any, at: Any, source: Any, begin: Any, width: Any) -> None:
    to, of = np.uintp(at), np.uintp(begin)
    for index in range(np.uintp(width)):
        octets[to + index] = source[of + index]


@part
def same(octets: Any, at: Any, other: Any, width: Any) -> Any:
    one, two, found = np.uintp(at), np.uintp(other), np.uint8(0)
    for index in range(np.uintp(width)):
        found |= octets[one + index] ^ octets[two + index]
    return found == 0


def _load_word(typing: Any, base: Any, index: Any) -> Any:
    """Compiles to the 32-bit word with this index from an address on, which need not be a multiple of four."""
    word = ir.IntType(32)

    def generate(context: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        start = builder.inttoptr(arguments[0], word.as_pointer())
        return builder.load(builder.gep(start, [arguments[1]], inbounds=True), align=1)

    return types.uint32(types.intp, types.intp), generate


_word_at: Any = intrinsic(_load_word)


@part
def word_sum(octets: Any, at: Any, width: Any) -> Any:
    """The sum of the 16-bit words (RFC 1071), as any number that leaves the right remainder by 65535; an odd last octet
    counts as if a zero followed.

    Summed in the machine's order, which is little-endian, and swapped at the end (RFC 1071 §2.B).
    """
    base, whole = octets.ctypes.data + at, width >> 2
    low = high = np.uint32(0)
    for index in range(whole):
        word = _word_at(base, index)
        low += word & np.uint32(MODULUS)
        high += word >> np.uint32(16)
    total = np.int64(low) + np.int64(high)
    for index in range(whole << 2, width):
        total += np.int64(octets[np.uintp(at + index)]) << 8 * (index & 1)
    return total * 256


@part
def fold(total: Any) -> Any:
    while total >> 16:
        total = (total & MODULUS) + (total >> 16)
    return total
