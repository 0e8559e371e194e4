"""The fast path: compiled loops carry packets while the event loop waits.

Imported only when it is needed: numba takes long to load.
"""

from __future__ import annotations

import socket
import struct
import time

import numpy as np

from zesty_burrow.carrier.data_path.carried import FOR_CAPSULES, FOR_FRAMES, CarriedPath
from zesty_burrow.carrier.data_path.options import MAX_PACKET
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.fast_path.capsule_path import CapsulePath
from zesty_burrow.carrier.fast_path.esp_tables import EspTables
from zesty_burrow.carrier.fast_path.framed_path import FramedPath
from zesty_burrow.carrier.fast_path.loops import records
from zesty_burrow.carrier.fast_path.loops.carry import carry
from zesty_burrow.carrier.fast_path.loops.device import ROW
from zesty_burrow.carrier.fast_path.loops.esp import SCRATCH
from zesty_burrow.carrier.fast_path.loops.join import ROW as JOIN_ROW
from zesty_burrow.carrier.fast_path.loops.records import Octets, Receiving, Sending
from zesty_burrow.carrier.fast_path.loops.slots import Slots
from zesty_burrow.carrier.fast_path.selector import PacketSelector
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.core.net import TCP, UDP, Endpoint
from zesty_burrow.core.packets import encapsulation, offload_header, too_big
from zesty_burrow.core.packets.offload_header import read_offload
from zesty_burrow.errors import ProgramFault
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

AT_ONCE = 1 << 13
"""Packets after which Python looks whether there is anything to do."""
NO_DESCRIPTOR = 0xFFFFFFFF


def endpoint_of(octets: bytes) -> Endpoint:
    """From a socket address of the system's."""
    (family,) = struct.unpack("=H", octets[:2])
    if family == socket.AF_INET:
        return socket.inet_ntoa(octets[4:8]), int.from_bytes(octets[2:4])
    scope = struct.unpack("=I", octets[24:28])[0]
    host, port = socket.inet_ntop(socket.AF_INET6, octets[8:24]), int.from_bytes(octets[2:4])
    found = socket.getnameinfo((host, port, 0, scope), socket.NI_NUMERICHOST | socket.NI_NUMERICSERV)
    return found[0], port


class FastPath:
    """Carries, in place of an event loop's waiting, what device and socket of a data path have."""

    def __init__(self, path: CarriedPath, selector: PacketSelector) -> None:
        self._path, self._selector = path, selector
        device, options = path.plain.device, path.plain.options
        self._header = offload_header.SIZE if device.header else 0
        longest = max(path.mtu, too_big.LEAST_IPV6)
        self._slots = Slots(SEGMENTS, longest, MAX_PACKET + offload_header.SIZE)
        self._descriptor = device.descriptor
        self._port: UdpPort | None = None
        self._esp = EspTables(longest)
        self._left: list[tuple[int, int, int]] = []
        self._failed = False
        self._states = np.zeros(1, records.STATE)
        state = self._states[0]
        for name, value in {
            "device": device.descriptor,
            "header": self._header,
            "stride": self._slots.stride,
            "slots": SEGMENTS,
            "longest": longest,
            "room": MAX_PACKET,
            "first": self._slots.packet(0),
            "clamp": path.mtu if options.clamp else 0,
            "joins_tcp": TCP in device.joins,
            "joins_udp": UDP in device.joins,
        }.items():
            state[name] = value
        self._message = np.zeros(records.MESSAGE, np.int64)
        lengths = np.zeros(records.MOST_AT_ONCE, np.int64)
        joined = np.zeros((records.MOST_AT_ONCE + 1, JOIN_ROW), np.int64)
        parts = np.zeros((records.MOST_AT_ONCE, 2), np.int64)
        empty: Octets = np.zeros(1, np.uint8)
        self._receiving = Receiving(empty, lengths, joined, parts, np.zeros(SCRATCH, np.uint8))
        marks = [encapsulation.outer_class(inner, options.dscp) for inner in range(256)]
        self._sending = Sending(
            self._slots.octets,
            np.zeros((SEGMENTS, ROW), np.int64),
            np.zeros(ROOM_IN_PIECE + MAX_PACKET, np.uint8),
            np.zeros((SEGMENTS, 2), np.int64),
            np.array(marks, np.uint8),
            np.zeros(SCRATCH, np.uint8),
        )
        self._selector.loops = self

    def refresh(self) -> None:
        """Tunnels have come or gone: seen by the path's revision."""

    def stop(self) -> None:
        """Leave everything to the event loop."""
        self._selector.loops = None
        self._selector.show(self._descriptor)
        if self._port is not None:
            self._selector.show(self._port.descriptor)

    def left_over(self) -> int:
        """Send, by the plain path, what was read and is not for the loops; how many packets."""
        if self._failed:
            raise ProgramFault("the cipher library has refused a packet")
        left, self._left = self._left, []
        sent, view, now = 0, self._slots.view, time.monotonic()
        for at, length, number in left:
            offload = read_offload(bytes(view[at - self._header : at])) if number else None
            if length > 0:
                sent += self._path.plain.send_packet(bytes(view[at : at + length]), offload, now)
        return sent

    # Waiting.

    def wait(self, others: int, timeout: float | None) -> list[int]:
        """Carry packets until there is something for Python; the descriptors whose readers are to be called."""
        path, state = self._path, self._states[0]
        first = path.plain.tunnels[0] if path.plain.tunnels else None
        self._esp.look(path, first.port if isinstance(first, Tunnel) else None)
        self._serve(others)
        state["deadline"] = -1 if timeout is None else time.monotonic_ns() + max(0, int(timeout * 1e9))
        state["budget"] = AT_ONCE
        end = carry(self._states, self._esp.tables, self._receiving, self._sending, self._message)
        self._settle()
        if end == records.INBOUND_LEFT and self._port is not None:
            self._port.kept.append(self._burst(self._port))
            return [self._port.descriptor]
        if end in (records.OUTBOUND_LEFT, records.CIPHER_FAILED):
            self._failed = end == records.CIPHER_FAILED
            begin, behind = int(state["left_begin"]), int(state["left_end"])
            reads = self._sending.reads[begin:behind].tolist()
            self._left = [(self._slots.packet(begin + index), *row) for index, row in enumerate(reads)]
            return [self._descriptor]
        return []

    def _serve(self, others: int) -> None:
        """What to wait for: the socket by which tunnels go, the device, and whatever the event loop waits for."""
        tunnels = self._path.plain.tunnels
        # The data path leaves to the loops only what goes by UDP sockets.
        ports = (tunnel.port for tunnel in tunnels if isinstance(tunnel, Tunnel))
        port = next((one for one in ports if isinstance(one, UdpPort)), None)
        if port is not self._port:
            if self._port is not None:
                self._selector.show(self._port.descriptor)
            self._port = port
            if port is not None:
                self._receiving = self._receiving._replace(inbox=np.frombuffer(port.buffer, np.uint8))
        is_served = port is not None and self._selector.hide(port.descriptor)
        self._message[records.SOCKET] = port.descriptor if port is not None and is_served else NO_DESCRIPTOR
        is_read = self._selector.hide(self._descriptor)
        self._message[records.DEVICE] = self._descriptor if is_read else NO_DESCRIPTOR
        self._message[records.OTHERS] = others

    def _burst(self, port: UdpPort) -> Burst:
        """The rest of a burst, as it came."""
        state = self._states[0]
        begin, total = int(state["begin"]), int(state["total"])
        name = self._message[records.IN_NAME :].tobytes()[: records.ADDRESS]
        return Burst(port.view, begin, total - begin, int(state["size"]), endpoint_of(name), int(state["mark"]))

    def _settle(self) -> None:
        """Hand on what the loops have noted."""
        state, path = self._states[0], self._path
        path.plain.dropped += int(state["dropped"])
        state["dropped"] = 0
        unsent, state["unsent"] = bool(state["unsent"]), 0
        self._esp.settle(path)
        if unsent:
            # The path may have become narrower (RFC 4301 §8.2).
            for tunnel, _, _, _ in self._esp.tunnels:
                tunnel.measure(refused=True)
            self._esp.forget()


def attach(path: CarriedPath, selector: PacketSelector | None) -> FastPath | CapsulePath | FramedPath | None:
    """The fast path of a data path, where the event loop allows it."""
    if path.kind_of_loops == FOR_CAPSULES:
        return CapsulePath(path)
    if path.kind_of_loops == FOR_FRAMES:
        return FramedPath(path)
    return FastPath(path, selector) if selector is not None else None
