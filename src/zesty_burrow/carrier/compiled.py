"""The way of a tunnel that carries much: packets are read, looked at and sealed by compiled loops.

Imported only once that is wanted: numba is slow to load.
"""

from __future__ import annotations

import time

import numpy as np
import numpy.typing as npt

from zesty_burrow.carrier.habits import LONGEST, SHORT
from zesty_burrow.carrier.inward import CARRIED_IN, Inward, addresses_of
from zesty_burrow.carrier.outward import SUPERS, Outward, Waiting
from zesty_burrow.carrier.port import ROOM_IN_PIECE, SEGMENTS, Burst, UdpPort
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.carrier.way import Way
from zesty_burrow.core import encapsulation
from zesty_burrow.core.compiled import esp, join, split
from zesty_burrow.core.compiled.works import COMPILED, CompiledSealer, Contexts
from zesty_burrow.core.esp.batch import Run
from zesty_burrow.core.esp.slots import ROOM, tight_stride
from zesty_burrow.core.ip import TCP, UDP
from zesty_burrow.core.offload.columns import Octets
from zesty_burrow.core.offload.vnet import read_offload
from zesty_burrow.core.protection import Combined
from zesty_burrow.errors import ProgramFault
from zesty_burrow.host import many

FEW, MANY = 3, 48
"""Packets a turn between which it is worth a pause to let others come: fewer are hardly a stream, more are enough."""
NEAR, PAUSE = 3e-4, 1e-4
"""Seconds after a turn in which the next one counts as right behind it; and how long a pause is."""


class CompiledOutward(Outward):
    """From one tunnel device to the tunnels behind it."""

    count = SEGMENTS

    def prepare(self) -> None:
        """Room for what goes out."""
        self._rows: npt.NDArray[np.int64] = np.zeros((self.count, many.ROW), np.int64)
        self._row: Octets = np.zeros(ROOM + self.count * tight_stride(self._slots.longest), np.uint8)
        self._sums: npt.NDArray[np.int64] = np.zeros(many.SUMS, np.int64)
        self._addresses: Octets = np.zeros(many.ADDRESSES, np.uint8)
        self._known: Tunnel | None = None
        self._pace = self._ended = 0.0
        self._lie = self._slots.octets, self._slots.packet(0), self._slots.stride, self._header, LONGEST
        self._contexts = Contexts(sealing=True)

    def choose_again(self) -> None:
        """``route`` may answer otherwise from now on."""
        super().choose_again()
        self._known = None

    def not_alone(self) -> None:
        """Something has come the other way: who reads this must not wait."""
        self._pace = 0.0

    def _know(self, tunnel: Tunnel, at: int) -> None:
        """What follows a packet with the same addresses goes the same way, and need not be looked at here."""
        if not self._habits.clamp:
            addresses = addresses_of(self._slots.view, at, 40)
            self._addresses[: 1 + len(addresses)] = np.frombuffer(bytes((len(addresses),)) + addresses, np.uint8)
            self._known = tunnel

    def send(self) -> int:
        """Seal and send what the device has; the number of packets."""
        # Where packets come one by one the first is sent before another is looked for: nobody waits for company.
        recent = time.monotonic() - self._ended < NEAR
        most = self.count if self._crowded or recent else 1
        if recent and FEW < self._pace < MANY:
            time.sleep(PAUSE)
        sent = read = 0
        for _ in range(SUPERS):
            count = self._take_out(most)
            if not count:
                break
            read += count
            sealed, inner = self._sums.tolist()[:2]
            if sealed < 0:
                raise ProgramFault("the cipher library has refused a packet")
            if sealed and self._known is not None:
                self._send_sealed(self._known, count, sealed, inner)
                sent += count
            else:
                sent += self._send_read(count)
            most = self.count
        self._crowded = read > 1
        # Large pieces are company enough.
        self._pace += ((read if sent <= read else 0) - self._pace) / 4
        self._ended = time.monotonic()
        return sent

    def _take_out(self, most: int) -> int:
        """Read up to so many packets; those that all go the known way are sealed."""
        tunnel, rows = self._known, self._rows
        read = self._device.descriptor, *self._lie, self._slots.longest, most, rows
        sa = tunnel.flow.outbound if tunnel is not None else None
        context = self._contexts.get(sa.protection) if sa is not None and sa.numbers_left > most else 0
        if tunnel is None or sa is None or not context or not isinstance(sa.protection, Combined):
            self._sums[many.SEALED] = 0
            return int(many.read_many(*read))
        names = sa.sequence + 1, sa.protection.next_counter, sa.spi, self._contexts.space, sa.extended
        to = self._addresses, min(tunnel.limit, self._slots.longest), self._row
        count = int(many.take_out(context, *read, *to, *names, self._sums))
        if self._sums[many.SEALED]:
            # Whatever became of them, these are used.
            sa.take_numbers(count, count * int(rows[0, many.LENGTH]))
            sa.protection.take_counters(count)
        return count

    def _send_read(self, count: int) -> int:
        """What lies in the first slots."""
        slots, rows, view = self._slots, self._rows, self._slots.view
        begin = sent = 0
        while begin < count:
            (length, number), at, end = rows[begin].tolist(), self._places[begin], begin + 1
            offload = read_offload(bytes(view[at - self._header : at])) if number else None
            if offload is not None and offload.kind:
                piece = self._piece(slots, at, length, offload)
                sent += self._send_pieces([piece]) if piece is not None else 0
            elif length > slots.longest:
                self._too_long(bytes(view[at : at + length]), slots.longest)
            elif length > 0:
                if end < count:
                    end = split.alike(slots.octets, self._places[0], slots.stride, begin, count, rows)
                sent += self._send_alike(begin, end, Waiting(length, offload))
            begin = end
        return sent

    def _send_alike(self, begin: int, end: int, one: Waiting) -> int:
        """Packets of one length, class and way."""
        slots, count, at = self._slots, end - begin, self._places[begin]
        if self._habits.clamp and one.length <= SHORT:
            return sum(self._send_one(slots.view, place, one) for place in self._places[begin:end])
        if one.offload is not None:
            start, field = one.offload.start, one.offload.place
            if start + field + 2 > one.length:
                self.turned_away += count
                return 0
            split.finish(slots.octets, at, slots.stride, count, one.length, start, field)
        tunnel, inner = self._way(slots.view, at, one.length)
        if tunnel is None:
            self.turned_away += count
            return 0
        self._know(tunnel, at)
        if one.length > tunnel.limit:
            packets = (bytes(slots.view[place : place + one.length]) for place in self._places[begin:end])
            return sum(self._send_each(packet, tunnel, inner) for packet in packets)
        try:
            self._seal_and_send(begin, Run(count, one.length, slots.view[at] >> 4), tunnel, inner)
        except OSError as problem:
            self._refused(problem, tunnel)
        return count

    def _seal_and_send(self, begin: int, run: Run, tunnel: Tunnel, inner: int) -> None:
        sealer, outbound = self._sealer, tunnel.flow.outbound
        each = sealer.seal_to(self._row, outbound, begin, run) if isinstance(sealer, CompiledSealer) else 0
        if each:
            self._send_sealed(tunnel, run.number, each, inner)
        else:
            outer = encapsulation.outer_class(inner, self._habits.dscp)
            tunnel.port.send_alike(sealer.seal(outbound, begin, [run]), tunnel.peer, outer)

    def _send_sealed(self, tunnel: Tunnel, count: int, each: int, inner: int) -> None:
        """``count`` ESP packets of ``each`` octets, which lie one behind the other."""
        port, peer, row = tunnel.port, tunnel.peer, self._row.data
        outer, whole = encapsulation.outer_class(inner, self._habits.dscp), count * each
        try:
            if count == 1:
                port.send(row[:each], peer, outer)
            elif port.splits:
                most = min(SEGMENTS, ROOM_IN_PIECE // each) * each
                for start in range(0, whole, most):
                    port.send_piece(row[start : min(start + most, whole)], each, peer, outer)
            else:
                port.send_many([row[start : start + each] for start in range(0, whole, each)], peer, outer)
        except OSError as problem:
            self._refused(problem, tunnel)


class CompiledInward(Inward):
    """To one tunnel device. What is out of the ordinary goes the ordinary way, as long as nothing was done with it."""

    def prepare(self) -> None:
        """Room for what is known of a burst's packets."""
        self._contexts = Contexts(sealing=False)
        most = esp.MOST_AT_ONCE
        self._lengths: npt.NDArray[np.int64] = np.zeros(most, np.int64)
        self._rows: npt.NDArray[np.int64] = np.zeros((most + 1, join.ROW), np.int64)
        self._parts: npt.NDArray[np.int64] = np.zeros((most, 2), np.int64)
        self._sums: npt.NDArray[np.int64] = np.zeros(many.SUMS, np.int64)
        self._addresses: Octets = np.zeros(many.ADDRESSES, np.uint8)
        self._known: Flow | None = None
        self._tcp, self._udp = TCP in self._device.joins, UDP in self._device.joins

    def take(self, burst: Burst, port: UdpPort) -> tuple[list[Tunnel], list[bytes]]:
        """Open what has come to the encapsulation port, and hand it to the device."""
        view, start, total, size, _, outer = burst
        spi, low = int.from_bytes(view[start : start + 4]), int.from_bytes(view[start + 4 : start + 8])
        tunnel = self.by_spi.get(spi)
        flow = tunnel.flows.get(spi) if tunnel is not None else None
        count = -(-total // size)
        usual = count <= esp.MOST_AT_ONCE and outer & 3 not in CARRIED_IN and not self._habits.clamp
        if tunnel is None or flow is None or not usual:
            return super().take(burst, port)
        sa, window, lengths = flow.inbound, flow.inbound.window, self._lengths
        context = self._contexts.get(sa.protection)
        number = window.whole_number(low) if sa.extended else low
        if not context or number <= window.highest:
            return super().take(burst, port)
        if flow is not self._known:
            self._known, self._addresses[0] = flow, 0
        what = port.octets, start, total, size, spi, number, self._contexts.space, sa.extended
        authentic = many.take_in(
            context,
            self._device.descriptor,
            *what,
            self._addresses,
            self._tcp,
            self._udp,
            self._header,
            lengths,
            self._rows,
            self._parts,
            self._sums,
        )
        if authentic < 0:
            return super().take(burst, port)
        if authentic == count:
            window.accept_run(number, count)
        else:
            for index in np.flatnonzero(lengths[:count] != esp.NOT_AUTHENTIC).tolist():
                window.accept(number + index)
        if not authentic:
            sa.counters.rejected += count
            return [], []
        written, packets, octets = self._sums.tolist()
        sa.counters.octets += octets
        sa.counters.packets += packets
        sa.counters.rejected += count - packets
        if not written and octets:
            self._hand_over(flow, port, start + 16, size, count)
        tunnel.heard(flow)
        return [tunnel], []

    def _hand_over(self, flow: Flow, port: UdpPort, at: int, size: int, count: int) -> None:
        """What has other addresses than came last."""
        lengths, rows = self._lengths, self._rows
        lie = port.octets, at, size
        together = esp.one_way(*lie, count, lengths)
        if together:
            first = int(lengths[:count].argmax())
            addresses = addresses_of(port.view, at + first * size, int(lengths[first]))
            if not flow.lets_in(addresses):
                self.turned_away += int(np.count_nonzero(lengths[:count] > 0))
                return
            self._addresses[: 1 + len(addresses)] = np.frombuffer(bytes((len(addresses),)) + addresses, np.uint8)
        else:
            self._choose(flow, port, at, size, count)
        found = join.join_all(*lie, count, lengths, together and self._tcp, together and self._udp, rows)
        many.write_rows(self._device.descriptor, *lie, lengths, rows, 0, found, self._header, self._parts)

    def _choose(self, flow: Flow, port: UdpPort, at: int, size: int, count: int) -> None:
        """Packets of several ways: those that may not come in get no length any more."""
        for index, length in enumerate(self._lengths[:count].tolist()):
            if length > 0 and not flow.lets_in(addresses_of(port.view, at + index * size, length)):
                self.turned_away += 1
                self._lengths[index] = 0


WAY = Way(COMPILED, CompiledOutward, CompiledInward)
