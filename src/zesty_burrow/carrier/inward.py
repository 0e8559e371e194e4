"""Inwards: what the encapsulation port has, to the tunnel device.

It is opened in place, joined where the kernel will take it in one piece, and written.
"""

from __future__ import annotations

from collections.abc import Iterator
from weakref import WeakKeyDictionary

from zesty_burrow.carrier.habits import SHORT, Habits
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.core import encapsulation
from zesty_burrow.core.esp.batch import Opened, Opener
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.join import Joiner, Packets
from zesty_burrow.core.works import Works
from zesty_burrow.errors import Malformed
from zesty_burrow.host.tun import TunDevice

CARRIED_IN = frozenset((encapsulation.CE, encapsulation.ECT1))


class Inward:
    """To one tunnel device, by the SPIs of the tunnels behind it.

    ``unknown``: packets with an SPI that is nobody's; ``turned_away``: packets that the selectors do not allow.
    """

    def __init__(self, device: TunDevice, mtu: int, habits: Habits, works: Works) -> None:
        self._device = device
        self._works = works
        self._header = vnet.SIZE if device.header else 0
        self._habits = habits
        self._mtu = mtu
        self.turned_away = self.unknown = 0
        self.by_spi: dict[int, Tunnel] = {}
        self._openers: WeakKeyDictionary[UdpPort, tuple[Opener, Joiner]] = WeakKeyDictionary()

    def _ends(self, port: UdpPort) -> tuple[Opener, Joiner]:
        """What works in a socket's buffer."""
        ends = self._openers.get(port)
        if ends is None:
            works = self._works
            ends = self._openers[port] = works.opener(port.octets), works.joiner(port.octets, self._device.joins)
        return ends

    def deliver(
        self, flow: Flow, port: UdpPort, places: list[int], lengths: list[int], stride: int, traffic_class: int
    ) -> None:
        """Hand packets that somebody else has opened to the device, as far as they may come in."""
        if places:
            opened = Opened(places, lengths, len(places))
            self._deliver(flow, opened, self._ends(port)[1], port.view, stride, traffic_class)

    def take(self, burst: Burst, port: UdpPort) -> tuple[list[Tunnel], list[bytes]]:
        """Open what has come to the encapsulation port, and hand it to the device.

        The tunnels by which something authentic came, and the datagrams that are not ESP (RFC 3948 §2.2).
        """
        opener, joiner = self._ends(port)
        start, end, size = burst.start, burst.start + burst.total, burst.size
        if size > 4 and (burst.total <= size or opener.of_one_sa(start, burst.total, size)):
            stretches: tuple[tuple[int, int], ...] = ((start, burst.total),)
        else:
            stretches = tuple((begin, min(size, end - begin)) for begin in range(start, end, size))
        heard: list[Tunnel] = []
        others: list[bytes] = []
        for begin, length in stretches:
            spi = int.from_bytes(burst.view[begin : begin + 4])
            if length <= 4 or not spi:
                others += [bytes(burst.view[at : min(at + size, end)]) for at in range(begin, begin + length, size)]
                continue
            tunnel = self.by_spi.get(spi)
            flow = tunnel.flows.get(spi) if tunnel is not None else None
            if tunnel is None or flow is None:
                self.unknown += -(-length // size)
                continue
            if length <= size:
                if self._take_one(flow, bytes(burst.view[begin : begin + length]), burst.traffic_class):
                    tunnel.heard(flow)
                    heard.append(tunnel)
                continue
            opened = opener.open(flow.inbound, begin, length, size)
            if opened.authentic:
                tunnel.heard(flow)
                heard.append(tunnel)
            if opened.places:
                self._deliver(flow, opened, joiner, burst.view, size, burst.traffic_class)
        return heard, others

    def _take_one(self, flow: Flow, data: bytes, outer: int) -> bool:
        """A packet by itself; whether it was authentic."""
        try:
            packet = flow.inbound.open(data)
        except Malformed:
            return False
        if not packet:
            return True
        if outer & 3 in CARRIED_IN or (self._habits.clamp and len(packet) <= SHORT):
            view = memoryview(bytearray(packet))
            if not encapsulation.take_congestion(view, 0, len(packet), outer):
                self.turned_away += 1
                return True
            if self._habits.clamp:
                encapsulation.clamp_segment_size(view, 0, len(packet), self._mtu)
            packet = bytes(view)
        if not flow.lets_in(addresses_of(packet, 0, len(packet))):
            self.turned_away += 1
        else:
            self._device.write([vnet.NOTHING[: self._header] + packet])
        return True

    def _deliver(self, flow: Flow, opened: Opened, joiner: Joiner, view: memoryview, stride: int, outer: int) -> None:
        places, lengths = opened.places, opened.lengths
        if outer & 3 in CARRIED_IN:
            kept = [
                index
                for index, at in enumerate(places)
                if encapsulation.take_congestion(view, at, lengths[index], outer)
            ]
            self.turned_away += len(places) - len(kept)
            places, lengths = [places[index] for index in kept], [lengths[index] for index in kept]
        if self._habits.clamp:
            for at, length in zip(places, lengths, strict=True):
                if length <= SHORT:
                    encapsulation.clamp_segment_size(view, at, length, self._mtu)
        for begin, end in _runs(places, lengths, stride):
            run = Packets(places[begin], end - begin, stride, lengths[begin], lengths[end - 1])
            for joined in joiner.join(run):
                if joined.offload is None:
                    self._deliver_each(flow, run, joined.first, joined.end, view)
                    continue
                at, length = run.begin(joined.first), run.size(joined.first)
                if not flow.lets_in(addresses_of(view, at, length)):
                    self.turned_away += joined.end - joined.first
                    continue
                before = at - self._header
                view[before:at] = joined.offload.octets()
                self._device.write([view[before : at + length], *joiner.pieces(run, joined)])

    def _deliver_each(self, flow: Flow, run: Packets, first: int, end: int, view: memoryview) -> None:
        """Packets ``first`` to before ``end``, each by itself."""
        header = self._header
        before, good = b"", False
        for index in range(first, end):
            at, length = run.begin(index), run.size(index)
            addresses = addresses_of(view, at, length)
            if addresses != before:
                before, good = addresses, flow.lets_in(addresses)
            if not good:
                self.turned_away += 1
                continue
            view[at - header : at] = vnet.NOTHING[:header]
            self._device.write((view[at - header : at + length],))


def addresses_of(view: bytes | memoryview, at: int, length: int) -> bytes:
    version = view[at] >> 4
    if version == 4 and length >= 20:
        return bytes(view[at + 12 : at + 20])
    return bytes(view[at + 8 : at + 40]) if version == 6 and length >= 40 else b""


def _runs(places: list[int], lengths: list[int], stride: int) -> Iterator[tuple[int, int]]:
    """Packets that lie ``stride`` apart and are of one length, but for a shorter last one."""
    count, begin = len(places), 0
    if count > 1 and places[-1] - places[0] == (count - 1) * stride:
        same = lengths.count(lengths[0])
        if same == count or (same == count - 1 and lengths[-1] < lengths[0]):
            yield 0, count
            return
    while begin < count:
        end = begin + 1
        while end < count and places[end] - places[end - 1] == stride and lengths[end] <= lengths[begin]:
            end += 1
            if lengths[end - 1] < lengths[begin]:
                break
        yield begin, end
        begin = end
