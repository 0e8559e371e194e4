"""The way of a tunnel that carries much: usual packets are carried by compiled loops that also wait for them.

Imported only once that is wanted: numba is slow to load.
"""

from __future__ import annotations

import ipaddress
import socket
import struct
import time
from collections.abc import Iterable

import numpy as np
import numpy.typing as npt

from zesty_burrow.carrier.habits import LONGEST
from zesty_burrow.carrier.inward import Inward, addresses_of
from zesty_burrow.carrier.outward import Outward
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.carrier.waiter import Waiter
from zesty_burrow.carrier.way import Told, Way
from zesty_burrow.core import encapsulation
from zesty_burrow.core.compiled import esp, join, ways
from zesty_burrow.core.compiled.works import COMPILED, Contexts
from zesty_burrow.core.esp.slots import Slots, tight_stride
from zesty_burrow.core.ike.events import Endpoint
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload import vnet
from zesty_burrow.core.offload.vnet import read_offload
from zesty_burrow.core.protection import Combined
from zesty_burrow.errors import ProgramFault
from zesty_burrow.host.loops import layout
from zesty_burrow.host.loops.carry import carry
from zesty_burrow.host.loops.device import ROW
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

Numbers = npt.NDArray[np.int64]
AT_ONCE = 1 << 13
"""Packets after which Python hears of what was carried."""
NUMBERS_KEPT = 1 << 20
"""Sequence numbers that have to be left: more than can be used before Python hears of it."""
NOBODY = 0xFFFFFFFF


def socket_address(endpoint: Endpoint) -> bytes:
    """As the system's calls have it (RFC 3493 §3.3); empty where it is of one link only."""
    host, port = endpoint
    if "%" in host:
        return b""
    address = ipaddress.ip_address(host)
    if address.version == 4:
        return struct.pack("=H", socket.AF_INET) + port.to_bytes(2) + address.packed + bytes(8)
    return struct.pack("=H", socket.AF_INET6) + port.to_bytes(2) + bytes(4) + address.packed + bytes(4)


def endpoint_of(octets: bytes) -> Endpoint:
    """The other way round."""
    (family,) = struct.unpack("=H", octets[:2])
    if family == socket.AF_INET:
        return socket.inet_ntoa(octets[4:8]), int.from_bytes(octets[2:4])
    scope = struct.unpack("=I", octets[24:28])[0]
    host, port = socket.inet_ntop(socket.AF_INET6, octets[8:24]), int.from_bytes(octets[2:4])
    found = socket.getnameinfo((host, port, 0, scope), socket.NI_NUMERICHOST | socket.NI_NUMERICSERV)
    return found[0], port


class Engine:
    """Stands in for an event loop's selector: of what device and socket have it carries the usual, both ways.

    What it knows of tunnels and ways it has learnt from packets that went through Python. ``told`` hears when
    something went out and came in.
    """

    def __init__(self, waiter: Waiter, outward: Outward, inward: Inward, told: Told) -> None:
        self._waiter, self._outward, self._inward, self._told = waiter, outward, inward, told
        device, habits, longest = outward.device, outward.habits, outward.longest
        self._descriptor, self._header = device.descriptor, vnet.SIZE if device.header else 0
        self._slots = Slots(SEGMENTS, longest, LONGEST + vnet.SIZE)
        self._port: UdpPort | None = None
        self._flows: list[Flow | None] = [None] * layout.FLOWS
        self._tunnels: list[Tunnel | None] = [None] * layout.TUNNELS
        self._turn = 0
        self._left: list[tuple[int, int, int]] = []
        self._fault = False
        self._opening, self._sealing = Contexts(sealing=False), Contexts(sealing=True)

        def numbers(*shape: int) -> Numbers:
            return np.zeros(shape, np.int64)

        self._state = numbers(layout.STATE)
        self._state[: layout.ROOM + 1] = (
            device.descriptor, self._header, self._slots.stride, SEGMENTS, longest, LONGEST,
        )  # fmt: skip
        self._state[layout.CLAMP] = habits.clamp
        self._waiting = numbers(3)
        self._of_flows, self._of_tunnels = (
            numbers(layout.FLOWS, layout.OF_FLOW),
            numbers(layout.TUNNELS, layout.OF_TUNNEL),
        )
        spaces = np.zeros((2, layout.FLOWS, esp.SPACE), np.uint8)
        self._flow_spaces, self._tunnel_spaces = spaces
        self._sources, self._targets = np.zeros((2, layout.FLOWS, layout.ADDRESS), np.uint8)
        self._ways_in, self._ways_out = np.zeros((2, ways.WAYS, ways.WAY), np.uint8)
        self._lengths = numbers(esp.MOST_AT_ONCE)
        self._runs, self._message = numbers(layout.NOTED, 3), numbers(layout.MESSAGE)
        marks = [encapsulation.outer_class(inner, habits.dscp) for inner in range(256)]
        self._inbox = np.zeros(0, np.uint8)
        self._in_room = numbers(esp.MOST_AT_ONCE + 1, join.ROW), numbers(esp.MOST_AT_ONCE, 2)
        self._joins = np.array([TCP in device.joins, UDP in device.joins], np.int64)
        row = np.zeros(max(ROOM_IN_PIECE, tight_stride(longest)) + 64, np.uint8)
        self._row = row.data
        self._sizes = numbers(SEGMENTS, 2)
        self._out_room = (
            np.array(marks, np.uint8), self._slots.octets, self._slots.packet(0),
            numbers(SEGMENTS, ROW), row, self._sizes,
        )  # fmt: skip

    # What Python tells.

    def serve(self, port: UdpPort) -> None:
        """This is the socket that ESP comes by; another one is the event loop's again."""
        if self._port is not port:
            if self._port is not None:
                self._waiter.show(self._port.descriptor)
            self._port, self._inbox = port, port.octets
        self._waiter.stand = self

    def stop(self) -> None:
        """Everything is the event loop's again."""
        self._waiter.stand = None
        self._waiter.show(self._descriptor)
        if self._port is not None:
            self._waiter.show(self._port.descriptor)

    def forget(self) -> None:
        """What was learnt does not hold any more."""
        self._of_flows[:] = self._of_tunnels[:] = 0
        self._ways_in[:] = self._ways_out[:] = 0
        self._flows = [None] * layout.FLOWS
        self._tunnels = [None] * layout.TUNNELS

    def came(self, burst: Burst, port: UdpPort, heard: Iterable[Tunnel]) -> None:
        """A burst of which something was authentic went through Python: others of its kind need not."""
        spi = int.from_bytes(burst.view[burst.start : burst.start + 4])
        flow = next((found for one in heard if (found := one.flows.get(spi)) is not None), None)
        source = socket_address(burst.source)
        context = self._opening.get(flow.inbound.protection) if flow is not None else 0
        if flow is None or port is not self._port or not context or not source:
            return
        row = self._flows.index(flow) if flow in self._flows else self._next_row()
        self._flows[row] = flow
        fields = spi, context, flow.inbound.extended, 0, 0, 0, 0, len(source)
        self._of_flows[row] = fields
        self._flow_spaces[row] = self._opening.space
        self._sources[row, : len(source)] = np.frombuffer(source, np.uint8)
        self._ways_in[self._ways_in[:, ways.BELONGS] == row, 0] = 0

    def _next_row(self) -> int:
        self._turn = (self._turn + 1) % layout.FLOWS
        return self._turn

    def left_over(self) -> int:
        """Send what is not usual; how many packets."""
        if self._fault:
            raise ProgramFault("the cipher library has refused a packet")
        left, self._left = self._left, []
        sent, slots = 0, self._slots
        for at, length, number in left:
            offload = read_offload(bytes(slots.view[at - self._header : at])) if number else None
            sent += self._outward.take(slots, at, length, offload)
            tunnel = self._outward.way_of(slots.view, at, length)
            if tunnel is not None:
                self._learn_out(at, length, tunnel)
        return sent

    def _learn_out(self, at: int, length: int, tunnel: Tunnel) -> None:
        outbound = tunnel.flow.outbound
        if not self._sealing.get(outbound.protection) or not socket_address(tunnel.peer):
            return
        known = tunnel in self._tunnels
        row = self._tunnels.index(tunnel) if known else self._next_row()
        if not known:
            self._ways_out[self._ways_out[:, ways.BELONGS] == row, 0] = 0
            self._tunnels[row] = tunnel
        ways.learn(self._ways_out, self._slots.octets, at, length, row)

    # Waiting.

    def wait(self, others: int, timeout: float | None) -> list[int]:
        """Carry packets until there is something for Python (:class:`zesty_burrow.carrier.waiter.Stand`)."""
        port, state = self._port, self._state
        state[layout.DEADLINE] = -1 if timeout is None else time.monotonic_ns() + max(0, int(timeout * 1e9))
        self._prepare(others)
        end = carry(
            state, self._waiting,
            self._of_flows, self._flow_spaces, self._sources, self._ways_in, self._joins,
            self._of_tunnels, self._tunnel_spaces, self._targets, self._ways_out, *self._out_room,
            self._inbox, self._lengths, *self._in_room, self._message, self._runs,
        )  # fmt: skip
        sent, heard = self._settle()
        if end in (layout.PARTLY_IN, layout.STRANGE_IN):
            self._deliver(whole=end == layout.STRANGE_IN)
            heard = heard or bool(state[layout.AUTHENTIC])
        if sent or heard:
            ended, last = float(state[layout.ENDED]), float(state[layout.HEARD])
            self._told(ended * 1e-9 * sent, last * 1e-9 * heard)
        if end == layout.UNUSUAL_IN and port is not None:
            port.kept.append(self._burst(port))
            return [port.descriptor]
        if end in (layout.UNUSUAL_OUT, layout.NOT_SENT, layout.REFUSED):
            self._keep(end)
            return [self._descriptor]
        return []

    def _prepare(self, others: int) -> None:
        """Tell the loops what holds now."""
        state, port, waiter = self._state, self._port, self._waiter
        served = port is not None and waiter.hide(port.descriptor)
        self._waiting[:] = (
            port.descriptor if port is not None and served else NOBODY,
            self._descriptor if waiter.hide(self._descriptor) else NOBODY,
            others,
        )
        state[layout.BUDGET], state[layout.RUNS] = AT_ONCE, 0
        for row, flow in enumerate(self._flows):
            if flow is not None:
                self._of_flows[row, layout.HIGHEST] = flow.inbound.window.highest
        for row, tunnel in enumerate(self._tunnels):
            if tunnel is not None:
                self._prepare_tunnel(row, tunnel)

    def _prepare_tunnel(self, row: int, tunnel: Tunnel) -> None:
        sa, port, target = tunnel.flow.outbound, tunnel.port, socket_address(tunnel.peer)
        context = self._sealing.get(sa.protection)
        usable = bool(context and target) and sa.numbers_left > NUMBERS_KEPT and isinstance(sa.protection, Combined)
        if not usable or not isinstance(sa.protection, Combined):
            # What is longer than nothing at all goes through Python.
            self._of_tunnels[row] = 0
            return
        limit = min(tunnel.limit, self._slots.longest)
        names = sa.spi, context, sa.extended, sa.sequence + 1, sa.protection.next_counter, limit
        self._of_tunnels[row] = (*names, port.descriptor, port.splits, len(target), 0, 0)
        self._tunnel_spaces[row] = self._sealing.space
        self._targets[row, : len(target)] = np.frombuffer(target, np.uint8)

    def _settle(self) -> tuple[bool, bool]:
        """Take over what the loops have done; whether something went out and came in."""
        went, noted = False, int(self._state[layout.RUNS])
        for row, tunnel in enumerate(self._tunnels):
            taken = int(self._of_tunnels[row, layout.TAKEN])
            if tunnel is not None and taken:
                sa = tunnel.flow.outbound
                sa.take_numbers(taken, int(self._of_tunnels[row, layout.CARRIED]))
                if isinstance(sa.protection, Combined):
                    sa.protection.take_counters(taken)
                self._of_tunnels[row, layout.TAKEN] = self._of_tunnels[row, layout.CARRIED] = 0
                went = True
        for row, first, count in self._runs[:noted].tolist():
            flow = self._flows[row]
            if flow is not None:
                flow.inbound.window.accept_run(first, count)
        for row in {one[0] for one in self._runs[:noted].tolist()}:
            flow = self._flows[row]
            if flow is not None:
                packets, octets, rejected = self._of_flows[row, layout.PACKETS : layout.REJECTED + 1].tolist()
                counters = flow.inbound.counters
                counters.packets += packets
                counters.octets += octets
                counters.rejected += rejected
            self._of_flows[row, layout.PACKETS : layout.REJECTED + 1] = 0
        return went, noted > 0

    def _burst(self, port: UdpPort) -> Burst:
        """What has come and was not usual, as it came."""
        total, size, mark = self._state[layout.TOTAL : layout.CLASS + 1].tolist()
        name = self._message[layout.IN_NAME :].tobytes()[: layout.ADDRESS]
        return Burst(port.view, 0, total, size, endpoint_of(name), mark)

    def _keep(self, end: int) -> None:
        """Packets that Python has to look at, when the device's reader is called."""
        begin, count, sent, sealed, row, place = self._state[layout.BEGIN : layout.PLACE + 1].tolist()
        rows = self._out_room[3]
        self._left = [(self._slots.packet(index), *rows[index].tolist()) for index in range(begin, count)]
        self._fault = end == layout.REFUSED
        tunnel = self._tunnels[row]
        if end == layout.NOT_SENT and tunnel is not None:
            pieces, marks = [], []
            for size, mark in self._sizes[sent:sealed].tolist():
                pieces.append(self._row[place : place + size])
                marks.append(mark)
                place += size
            self._outward.send_again(tunnel, pieces, marks)

    def _deliver(self, *, whole: bool) -> None:
        """A burst of which some was not authentic, or that has others' addresses than came before."""
        state, port = self._state, self._port
        total, size, mark, row, first = state[layout.TOTAL : layout.AUTHENTIC].tolist()
        flow, count = self._flows[row], -(-total // size)
        if flow is None or port is None:
            return
        lengths, sa = self._lengths[:count], flow.inbound
        if not whole:
            for index in np.flatnonzero(lengths != esp.NOT_AUTHENTIC).tolist():
                sa.window.accept(first + index)
            good = lengths >= 0
            sa.counters.packets += int(np.count_nonzero(good))
            sa.counters.octets += int(lengths[good].sum())
            sa.counters.rejected += count - int(np.count_nonzero(good))
        inner = [index for index in range(count) if lengths[index] > 0]
        for index in inner:
            at, length = 16 + index * size, int(lengths[index])
            if flow.lets_in(addresses_of(port.view, at, length)):
                ways.learn(self._ways_in, port.octets, at, length, row)
        places = [16 + index * size for index in inner]
        self._inward.deliver(flow, port, places, [int(lengths[index]) for index in inner], size, mark)


def stand_in(waiter: Waiter | None, outward: Outward, inward: Inward, told: Told) -> Engine | None:
    """Where the event loop allows it."""
    return Engine(waiter, outward, inward, told) if waiter is not None else None


WAY = Way(COMPILED, stand_in)
