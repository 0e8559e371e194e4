"""Many packets at a time through one security association (RFC 4303), in the buffers that they already lie in.

What a packet costs here is little more than its cipher: headers, sequence numbers and nonces of a whole batch are
written as columns, and a combined-mode cipher then works in place. Other ciphers go packet by packet. Every packet
stands for itself: one that was forged, cut, repeated or delayed takes nothing with it.
"""

from __future__ import annotations

from collections import OrderedDict, deque
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Generic, NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt
from cryptography.exceptions import InvalidTag

from zesty_burrow.core.esp.association import (
    HEADER,
    LAST_SEQUENCE,
    NEXT_IPV4,
    NEXT_IPV6,
    NEXT_NONE,
    PADDING,
    InboundSa,
    OutboundSa,
)
from zesty_burrow.core.esp.slots import Slots
from zesty_burrow.core.offload.columns import Octets, columns, numbers
from zesty_burrow.core.protection import Combined
from zesty_burrow.errors import Malformed

KEPT = 24
"""Lengths for which the views into a buffer are kept."""
FEW = 2
"""So many packets are quicker done one by one."""
MOST_TRAILER = 5
"""Three octets of padding, their number and the next header, where the cipher needs no more."""
_MOST_DATAGRAMS = 256

T = TypeVar("T")


def _nonces(count: int) -> tuple[Octets, list[memoryview]]:
    """Rows of twelve octets, for nonces and for what is authenticated besides, with a view of each."""
    octets = np.zeros(count * 12, np.uint8)
    return octets.reshape(count, 12), [octets.data[at : at + 12] for at in range(0, count * 12, 12)]


class _Kept(Generic[T]):
    """Views for packets of a size, kept for the sizes of late."""

    def __init__(self, make: Callable[[int], T]) -> None:
        self._make = make
        self._known: OrderedDict[int, T] = OrderedDict()

    def get(self, size: int, *, worth: bool) -> T | None:
        """What is kept; or made, where that is ``worth`` it."""
        found = self._known.get(size)
        if found is not None:
            self._known.move_to_end(size)
        elif worth:
            found = self._known[size] = self._make(size)
            if len(self._known) > KEPT:
                self._known.popitem(last=False)
        return found


@dataclass(frozen=True, slots=True)
class _Sealing:
    """For plaintexts of one size in any slot: plaintexts, where they are sealed to, whole ESP packets, the trailers."""

    plain: list[memoryview]
    out: list[memoryview]
    whole: list[memoryview]
    trailers: npt.NDArray[np.uint8]


def _trailer(length: int, version: int) -> bytes:
    """Padding, its length and the next header (RFC 4303 §2.4)."""
    pad = -(length + 2) % 4
    return PADDING[:pad] + bytes((pad, NEXT_IPV6 if version == 6 else NEXT_IPV4))


class Run(NamedTuple):
    """``number`` packets of ``length`` octets and one IP version, one behind the other."""

    number: int
    length: int
    version: int


class Sealer:
    """Seals what lies in the slots of one buffer."""

    def __init__(self, slots: Slots) -> None:
        self.slots = slots
        count, stride = slots.count, slots.stride
        start = slots.packet(0) - 16
        self._nonces, self._nonce_views = _nonces(count)
        self._counters = numbers(self._nonces.reshape(-1), 4, count, 12, ">u8")
        self._long, self._long_views = _nonces(count)
        self._long_numbers = numbers(self._long.reshape(-1), 4, count, 12, ">u8")
        self._steps = np.arange(count, dtype=np.uint64)
        self._front = numbers(slots.octets, start, count, stride, ">u8")
        self._ivs = numbers(slots.octets, start + 8, count, stride, ">u8")
        self._heads = [slots.view[at - 16 : at - 8] for at in map(slots.packet, range(count))]
        self._salt = b""
        self._kept = _Kept(self._make)

    def seal(self, sa: OutboundSa, first: int, runs: Sequence[Run]) -> list[memoryview]:
        """The ESP packets around the IPv4 or IPv6 packets in slots ``first`` and on; they lie in the same slots.

        Valid until the slots are used again. :class:`StateError` once the sequence numbers are used up.
        """
        protection, count = sa.protection, sum(run.number for run in runs)
        if not isinstance(protection, Combined) or not protection.twelve_octets or count <= FEW:
            return self._one_by_one(sa, first, runs)
        octets = sum(run.number * run.length for run in runs)
        return self._seal_runs(sa, protection, sa.take_numbers(count, octets), first, count, runs)

    def _seal_runs(
        self, sa: OutboundSa, protection: Combined, number: int, first: int, count: int, runs: Sequence[Run]
    ) -> list[memoryview]:
        """``count`` packets under the sequence numbers from ``number`` on."""
        counter = protection.take_counters(count)
        end, counters = first + count, self._steps[:count] + counter
        self._ivs[first:end] = counters
        self._counters[:count] = counters
        low = number & LAST_SEQUENCE
        if low + count <= LAST_SEQUENCE:
            self._front[first:end] = counters + ((sa.spi << 32 | low) - counter)
        else:
            self._front[first:end] = (self._steps[:count] + number & LAST_SEQUENCE) + (sa.spi << 32)
        if protection.salt != self._salt:
            self._salt = protection.salt
            self._nonces[:, :4] = np.frombuffer(protection.salt, np.uint8)
        if sa.extended:
            # RFC 4106 §5: SPI and all 64 bits of the number.
            self._long[:count, :4] = np.frombuffer(sa.spi.to_bytes(4), np.uint8)
            self._long_numbers[:count] = self._steps[:count] + number
        associated = self._long_views if sa.extended else self._heads[first:end]
        sealed: list[memoryview] = []
        begin = 0
        for run in runs:
            stop = begin + run.number
            plain, out, whole = self._views(first + begin, run.number, run.length, run.version)
            nonces, besides = self._nonce_views[begin:stop], associated[begin:stop]
            deque(map(protection.aead.encrypt_into, nonces, plain, besides, out), maxlen=0)
            sealed += whole
            begin = stop
        return sealed

    def _views(self, first: int, count: int, length: int, version: int) -> tuple[Sequence[memoryview], ...]:
        """Plaintexts with their trailers in place, where they are sealed to, and whole ESP packets."""
        trailer = _trailer(length, version)
        size = length + len(trailer)
        found = self._kept.get(size, worth=count > FEW)
        if found is None:
            places = [self.slots.packet(index) for index in range(first, first + count)]
            view = self.slots.view
            for at in places:
                view[at + length : at + size] = trailer
            return (
                [view[at : at + size] for at in places],
                [view[at : at + size + 16] for at in places],
                [view[at - 16 : at + size + 16] for at in places],
            )
        end = first + count
        found.trailers[first:end, MOST_TRAILER - len(trailer) :] = np.frombuffer(trailer, np.uint8)
        return found.plain[first:end], found.out[first:end], found.whole[first:end]

    def _make(self, size: int) -> _Sealing:
        view, slots = self.slots.view, self.slots
        places = [slots.packet(index) for index in range(slots.count)]
        return _Sealing(
            [view[at : at + size] for at in places],
            [view[at : at + size + 16] for at in places],
            [view[at - 16 : at + size + 16] for at in places],
            columns(slots.octets, places[0] + size - MOST_TRAILER, slots.count, slots.stride, MOST_TRAILER),
        )

    def _one_by_one(self, sa: OutboundSa, first: int, runs: Sequence[Run]) -> list[memoryview]:
        view, sealed = self.slots.view, []
        for index, length in enumerate([run.length for run in runs for _ in range(run.number)]):
            at = self.slots.packet(first + index)
            data = sa.seal(bytes(view[at : at + length]))
            begin = at - HEADER - sa.protection.iv_size
            view[begin : begin + len(data)] = data
            sealed.append(view[begin : begin + len(data)])
        return sealed


@dataclass(slots=True)
class Opened:
    """Inner packets at ``places`` in the buffer, with their ``lengths``, in the order in which they came.

    ``authentic``: how many packets held, those without an inner packet included.
    """

    places: list[int]
    lengths: list[int]
    authentic: int = 0


@dataclass(frozen=True, slots=True)
class Opening:
    """For ESP packets of one size from a place on: ESP headers, what is sealed, where it is opened to; and columns.

    ``trailers``: padding length and next header, as they are once opened; ``tops``: the first octet of each.
    """

    heads: list[memoryview]
    sealed: list[memoryview]
    plain: list[memoryview]
    fronts: npt.NDArray[np.uint64]
    ivs: npt.NDArray[np.uint64]
    trailers: npt.NDArray[np.uint16]
    tops: npt.NDArray[np.uint8]


class Opener:
    """Opens ESP packets that lie one behind the other in a receive buffer, in place."""

    def __init__(self, octets: Octets) -> None:
        self.octets = octets
        self.view = octets.data
        self._nonces, self._nonce_views = _nonces(_MOST_DATAGRAMS)
        self._counters = numbers(self._nonces.reshape(-1), 4, _MOST_DATAGRAMS, 12, "u8")
        self._long, self._long_views = _nonces(_MOST_DATAGRAMS)
        self._long_numbers = numbers(self._long.reshape(-1), 4, _MOST_DATAGRAMS, 12, ">u8")
        self._salt = b""
        self._kept = _Kept(lambda size: self._make(0, size, min(len(octets) // size, _MOST_DATAGRAMS)))

    def open(self, sa: InboundSa, start: int, total: int, size: int) -> Opened:
        """The inner packets of ``total`` octets of ESP packets of ``size`` octets, of which the last may be shorter.

        They begin at ``start``. What does not hold is counted and left out. The ESP packets are destroyed.
        """
        protection = sa.protection
        found = Opened([], [])
        if not isinstance(protection, Combined) or not protection.twelve_octets:
            self._one_by_one(sa, start, total, size, found)
            return found
        begin, end = start, start + total
        while end - begin > FEW * size and size >= HEADER + protection.overhead + 2:
            count = min((end - begin) // size, _MOST_DATAGRAMS)
            self._open_full(sa, protection, begin, count, size, found)
            begin += count * size
        if begin < end:
            self._one_by_one(sa, begin, end - begin, size, found)
        return found

    def of_one_sa(self, start: int, total: int, size: int) -> bool:
        """Whether all the ESP packets from ``start`` on name one SPI."""
        count, usual = total // size, not start and size > HEADER + 24
        # For what nobody has spoken for yet, nothing is made that would be kept.
        views = self._kept.get(size, worth=False) if usual and FEW < count <= _MOST_DATAGRAMS else None
        if views is None:
            return len({bytes(self.view[at : at + 4]) for at in range(start, start + total, size)}) == 1
        fronts = views.fronts[:count].tolist()
        tail = bytes(self.view[count * size : min(count * size + 4, total)])
        return min(fronts) >> 32 == max(fronts) >> 32 and (not tail or tail == bytes(self.view[:4]))

    def _open_full(self, sa: InboundSa, protection: Combined, begin: int, count: int, size: int, found: Opened) -> None:
        """``count`` packets of full size."""
        views = None if begin else self._kept.get(size, worth=True)
        if views is None:
            views = self._make(begin, size, count)
        fronts = views.fronts[:count].tolist()
        low = fronts[0] & LAST_SEQUENCE
        number = sa.window.whole_number(low) if sa.extended else low
        in_a_row = number > sa.window.highest and fronts == list(range(fronts[0], fronts[0] + count))
        whole: Sequence[int] = range(number, number + count)
        if not in_a_row:
            each = [one & LAST_SEQUENCE for one in fronts]
            whole = [sa.window.whole_number(one) for one in each] if sa.extended else each
        wanted = range(count) if in_a_row else [at for at, one in enumerate(whole) if sa.window.check(one)]
        good = self._decrypt(sa, protection, views, begin, size, whole, wanted)
        if in_a_row and len(good) == count:
            sa.window.accept_run(number, count)
        else:
            good = [index for index in good if sa.window.take(whole[index])]
        sa.counters.rejected += count - len(good)
        found.authentic += len(good)
        self._unwrap(sa, views, begin, count, size, good, found)

    def _decrypt(
        self,
        sa: InboundSa,
        protection: Combined,
        views: Opening,
        begin: int,
        size: int,
        whole: Sequence[int],
        wanted: Sequence[int],
    ) -> Sequence[int]:
        """Open the ``wanted`` ones of the packets with the numbers ``whole`` in place; those whose ICV holds."""
        count = len(whole)
        if protection.salt != self._salt:
            self._salt = protection.salt
            self._nonces[:, :4] = np.frombuffer(protection.salt, np.uint8)
        self._counters[:count] = views.ivs[:count]
        if sa.extended:
            self._long[:count, :4] = np.frombuffer(sa.spi.to_bytes(4), np.uint8)
            self._long_numbers[:count] = np.array(whole, np.uint64)
        associated = self._long_views if sa.extended else views.heads
        parts = self._nonce_views, views.sealed[:count], associated, views.plain
        return _decrypt_some(protection, *parts, wanted) if len(wanted) < count else _decrypt(protection, *parts)

    def _make(self, begin: int, size: int, count: int) -> Opening:
        view, octets = self.view, self.octets
        places = range(begin, begin + count * size, size)
        return Opening(
            [view[at : at + 8] for at in places],
            [view[at + 16 : at + size] for at in places],
            [view[at + 16 : at + size - 16] for at in places],
            numbers(octets, begin, count, size, ">u8"),
            numbers(octets, begin + 8, count, size, "u8"),
            numbers(octets, begin + size - 18, count, size, "<u2"),
            numbers(octets, begin + 16, count, size, "u1"),
        )

    def _unwrap(
        self, sa: InboundSa, views: Opening, begin: int, count: int, size: int, good: Sequence[int], found: Opened
    ) -> None:
        """Take padding, next header and inner version apart (RFC 4303 §2.4 to §2.6)."""
        if not good:
            return
        trailers, tops = views.trailers[:count].tolist(), views.tops[:count].tolist()
        length = self._inner_length(size, trailers[0], tops[0])
        alike = trailers.count(trailers[0]) == count and tops.count(tops[0]) == count
        if len(good) == count and length > 0 and alike:
            found.places.extend(range(begin + 16, begin + 16 + count * size, size))
            found.lengths.extend([length] * count)
            sa.counters.octets += length * count
        else:
            for index in good:
                length = self._inner_length(size, trailers[index], tops[index])
                if length < 0:
                    sa.counters.rejected += 1
                    sa.counters.packets -= 1
                elif length:
                    found.places.append(begin + index * size + 16)
                    found.lengths.append(length)
                    sa.counters.octets += length
        sa.counters.packets += len(good)

    @staticmethod
    def _inner_length(size: int, trailer: int, top: int) -> int:
        """Octets of the inner packet; 0 for a packet without one (RFC 4303 §2.6), below 0 for one that is malformed."""
        length, following = size - HEADER - 8 - 16 - 2 - (trailer & 0xFF), trailer >> 8
        if following == NEXT_NONE and length >= 0:
            return 0
        fits = (following == NEXT_IPV4 and top >> 4 == 4) or (following == NEXT_IPV6 and top >> 4 == 6)
        return length if fits and length > 0 else -1

    def _one_by_one(self, sa: InboundSa, start: int, total: int, size: int, found: Opened) -> None:
        for begin in range(start, start + total, size):
            try:
                packet = sa.open(bytes(self.view[begin : min(begin + size, start + total)]))
            except Malformed:
                continue
            found.authentic += 1
            if packet:
                at = begin + HEADER + sa.protection.iv_size
                self.view[at : at + len(packet)] = packet
                found.places.append(at)
                found.lengths.append(len(packet))


Views = Sequence[memoryview]


def _decrypt(protection: Combined, nonces: Views, sealed: Views, associated: Views, plain: Views) -> Sequence[int]:
    """Open them all in place; those whose ICV holds. The others cost only themselves."""
    done: list[int] = []
    try:
        done.extend(map(protection.aead.decrypt_into, nonces, sealed, associated, plain))
    except InvalidTag:
        first = len(done)
        rest = range(first + 1, len(sealed))
        return [*range(first), *_decrypt_some(protection, nonces, sealed, associated, plain, rest)]
    return range(len(sealed))


def _decrypt_some(
    protection: Combined, nonces: Views, sealed: Views, associated: Views, plain: Views, which: Iterable[int]
) -> list[int]:
    held = []
    for index in which:
        try:
            protection.aead.decrypt_into(nonces[index], sealed[index], associated[index], plain[index])
        except InvalidTag:
            continue
        held.append(index)
    return held
