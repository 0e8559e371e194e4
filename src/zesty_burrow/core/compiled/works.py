"""Sealing, opening, splitting and joining by compiled loops, behind the same calls as by columns.

What they do not do is done as it is there: other ciphers, packets by themselves, lengths that are rare.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from weakref import WeakKeyDictionary

import numpy as np
import numpy.typing as npt
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305

from zesty_burrow.core.compiled import esp, join, split
from zesty_burrow.core.compiled.symbols import Context
from zesty_burrow.core.esp.association import NEXT_IPV4, NEXT_IPV6, InboundSa, OutboundSa
from zesty_burrow.core.esp.batch import Opener, Opening, Run, Sealer
from zesty_burrow.core.esp.slots import Slots
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.columns import Octets
from zesty_burrow.core.offload.join import Joined, Joiner, Packets
from zesty_burrow.core.offload.split import Portion, Splitter
from zesty_burrow.core.offload.vnet import Offload
from zesty_burrow.core.protection import Combined, Protection
from zesty_burrow.core.works import Works
from zesty_burrow.errors import ProgramFault

Place = tuple[Octets, int, int]
"""Octets, where in them the first packet is, and how far apart they are."""


class Contexts:
    """Ciphers by their protections, and a space that begins with the salt of the one asked for last."""

    def __init__(self, *, sealing: bool) -> None:
        self._sealing = sealing
        self._known: WeakKeyDictionary[Protection, Context | None] = WeakKeyDictionary()
        self._last: Protection | None = None
        self._address = 0
        self.space: Octets = np.zeros(esp.SPACE, np.uint8)

    def get(self, protection: Protection) -> int:
        """Where the cipher under its key is; 0 where there is none to be had."""
        if protection is not self._last:
            if protection not in self._known:
                self._known[protection] = self._make(protection)
            found = self._known[protection]
            self._last, self._address = protection, found.address if found is not None else 0
            if isinstance(protection, Combined):
                self.space[: len(protection.salt)] = np.frombuffer(protection.salt, np.uint8)
        return self._address

    def _make(self, protection: Protection) -> Context | None:
        if not isinstance(protection, Combined) or not protection.twelve_octets:
            return None
        if isinstance(protection.aead, AESGCM):
            return Context(f"AES-{len(protection.key) * 8}-GCM", protection.key, sealing=self._sealing)
        if isinstance(protection.aead, ChaCha20Poly1305):
            return Context("ChaCha20-Poly1305", protection.key, sealing=self._sealing)
        return None


class CompiledSealer(Sealer):
    """Seals what lies in the slots of one buffer."""

    def __init__(self, slots: Slots) -> None:
        super().__init__(slots)
        self.contexts = Contexts(sealing=True)

    def _seal_runs(
        self, sa: OutboundSa, protection: Combined, number: int, first: int, count: int, runs: Sequence[Run]
    ) -> list[memoryview]:
        context = self.contexts.get(protection)
        if not context:
            return super()._seal_runs(sa, protection, number, first, count, runs)
        counter, slots = protection.take_counters(count), self.slots
        sealed: list[memoryview] = []
        begin = first
        for run in runs:
            lie, step = (slots.octets, slots.packet(begin), slots.stride), begin - first
            sealed += self._views(begin, run.number, run.length, run.version)[2]
            self._seal(context, sa, lie, lie, run, number + step, counter + step)
            begin += run.number
        return sealed

    def _seal(self, context: int, sa: OutboundSa, lie: Place, to: Place, run: Run, number: int, counter: int) -> None:
        following = NEXT_IPV6 if run.version == 6 else NEXT_IPV4
        what = run.number, run.length, following, number, counter, sa.spi
        if esp.seal(context, *lie, *to, *what, self.contexts.space, sa.extended) != run.number:
            raise ProgramFault("the cipher library has refused a packet")


class CompiledOpener(Opener):
    """Opens ESP packets that lie one behind the other in a receive buffer, in place."""

    def __init__(self, octets: Octets) -> None:
        super().__init__(octets)
        self._contexts = Contexts(sealing=False)
        self._held = np.zeros(esp.MOST_AT_ONCE, np.int64)

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
        context = self._contexts.get(protection)
        if not context:
            return super()._decrypt(sa, protection, views, begin, size, whole, wanted)
        numbers, asked = np.array(whole, np.uint64), np.array(wanted, np.int64)
        space, held = self._contexts.space, self._held
        found = esp.unseal(context, self.octets, begin, size, numbers, asked, sa.spi, space, sa.extended, held)
        return range(found) if found == len(whole) else held[:found].tolist()


class CompiledSplitter(Splitter):
    """Puts segments into slots of a buffer."""

    def place(self, portions: Sequence[Portion]) -> int:
        """As the columns do."""
        at, last = self._offset, 0
        for octets, whole, first, number in portions:
            shape = whole.at, whole.length, whole.version, whole.protocol, whole.transport, whole.headers, whole.size
            last = split.split(octets, *shape, first, number, self._octets, at, self._stride)
            at += number * self._stride
        return last


class CompiledJoiner(Joiner):
    """Joins packets that lie in one buffer."""

    def __init__(self, octets: Octets, protocols: frozenset[int]) -> None:
        super().__init__(octets, protocols)
        self._rows: npt.NDArray[np.int64] = np.zeros((esp.MOST_AT_ONCE, join.ROW), np.int64)

    def join(self, packets: Packets) -> Iterator[Joined]:
        """As the columns do."""
        if packets.number >= len(self._rows):
            self._rows = np.zeros((packets.number + 1, join.ROW), np.int64)
        found = join.join(self._octets, *packets, TCP in self._protocols, UDP in self._protocols, self._rows)
        for first, end, headers, version, protocol in self._rows[:found].tolist():
            if not version:
                yield Joined(first, end)
                continue
            transport, size = 20 if version == 4 else 40, packets.length - headers
            if protocol == TCP:
                offload = Offload(0, vnet.TCP4 if version == 4 else vnet.TCP6, headers, size, 0, 0)
            else:
                offload = Offload(vnet.NEEDS_CHECKSUM, vnet.UDP, headers, size, transport, 6)
            yield Joined(first, end, headers, offload)


COMPILED = Works(CompiledSealer, CompiledOpener, CompiledSplitter, CompiledJoiner)
