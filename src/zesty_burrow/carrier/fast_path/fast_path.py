"""The fast path: compiled loops carry packets while the event loop waits.

Imported only when it is needed: numba takes long to load.
"""

from __future__ import annotations

import ipaddress
import socket
import struct
import time
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305

from zesty_burrow.carrier.data_path.data_path import FOR_CAPSULES, DataPath
from zesty_burrow.carrier.data_path.options import MAX_PACKET
from zesty_burrow.carrier.data_path.tunnel import Tunnel
from zesty_burrow.carrier.data_path.udp_port import Burst, UdpPort
from zesty_burrow.carrier.fast_path.capsule_path import CapsulePath
from zesty_burrow.carrier.fast_path.loops import records
from zesty_burrow.carrier.fast_path.loops.carry import carry
from zesty_burrow.carrier.fast_path.loops.device import ROW
from zesty_burrow.carrier.fast_path.loops.esp import SCRATCH
from zesty_burrow.carrier.fast_path.loops.join import ROW as JOIN_ROW
from zesty_burrow.carrier.fast_path.loops.records import Octets, Receiving, Sending, Tables
from zesty_burrow.carrier.fast_path.loops.slots import Slots
from zesty_burrow.carrier.fast_path.selector import PacketSelector
from zesty_burrow.carrier.fast_path.symbols import Context
from zesty_burrow.core.crypto.protection import Combined, Protection
from zesty_burrow.core.esp.channel import EspChannel, SaPair
from zesty_burrow.core.esp.sa import LAST_SEQUENCE, InboundState, OutboundState
from zesty_burrow.core.net import TCP, UDP, AddressRange, Endpoint
from zesty_burrow.core.packets import encapsulation, offload_header, too_big
from zesty_burrow.core.packets.offload_header import read_offload
from zesty_burrow.errors import ProgramFault
from zesty_burrow.host.udp import ROOM_IN_PIECE, SEGMENTS

AT_ONCE = 1 << 13
"""Packets after which Python looks whether there is anything to do."""
NUMBERS_KEPT = 1 << 20
"""Sequence numbers that are left to the plain path, which ends the tunnel properly once they are used up."""
NO_DESCRIPTOR = 0xFFFFFFFF


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
    """From a socket address of the system's."""
    (family,) = struct.unpack("=H", octets[:2])
    if family == socket.AF_INET:
        return socket.inet_ntoa(octets[4:8]), int.from_bytes(octets[2:4])
    scope = struct.unpack("=I", octets[24:28])[0]
    host, port = socket.inet_ntop(socket.AF_INET6, octets[8:24]), int.from_bytes(octets[2:4])
    found = socket.getnameinfo((host, port, 0, scope), socket.NI_NUMERICHOST | socket.NI_NUMERICSERV)
    return found[0], port


class Contexts:
    """The cipher library's contexts, by the protections whose keys they have."""

    def __init__(self, *, sealing: bool) -> None:
        self._sealing = sealing
        self._known: WeakKeyDictionary[Protection, Context | None] = WeakKeyDictionary()

    def get(self, protection: Protection) -> int:
        """The address of a context; 0 where the loops do not know the cipher."""
        if protection not in self._known:
            self._known[protection] = self._make(protection)
        found = self._known[protection]
        return found.address if found is not None else 0

    def _make(self, protection: Protection) -> Context | None:
        if not isinstance(protection, Combined) or not protection.twelve_octets:
            return None
        if isinstance(protection.aead, AESGCM):
            return Context(f"AES-{len(protection.key) * 8}-GCM", protection.key, sealing=self._sealing)
        if isinstance(protection.aead, ChaCha20Poly1305):
            return Context("ChaCha20-Poly1305", protection.key, sealing=self._sealing)
        return None


class FastPath:
    """Carries, in place of an event loop's waiting, what device and socket of a data path have."""

    def __init__(self, path: DataPath, selector: PacketSelector) -> None:
        self._path, self._selector = path, selector
        device, options = path.plain.device, path.plain.options
        self._header = offload_header.SIZE if device.header else 0
        longest = max(path.mtu, too_big.LEAST_IPV6)
        self._slots = Slots(SEGMENTS, longest, MAX_PACKET + offload_header.SIZE)
        self._descriptor = device.descriptor
        self._port: UdpPort | None = None
        self._revision = -1
        self._revisions: list[int] = []
        self._left: list[tuple[int, int, int]] = []
        self._failed = False
        self._opening, self._sealing = Contexts(sealing=False), Contexts(sealing=True)
        self._tunnels: list[tuple[Tunnel, EspChannel, int, int]] = []
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
        self._tables = _tables(0, 0, 0)[0]
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
        changed = self._revisions != [one.channel.revision for one in path.plain.tunnels]
        if self._revision != path.revision or changed:
            self._learn()
        self._serve(others)
        state["deadline"] = -1 if timeout is None else time.monotonic_ns() + max(0, int(timeout * 1e9))
        state["budget"] = AT_ONCE
        for index, (_, channel, _, _) in enumerate(self._tunnels):
            self._tables.outbound[index]["octet_limit"] = channel.octet_limit
        end = carry(self._states, self._tables, self._receiving, self._sending, self._message)
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
        ports = (one.port for one in tunnels if isinstance(one, Tunnel))
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
        inbound, outbound = self._tables.inbound, self._tables.outbound
        for index, (tunnel, channel, begin, end) in enumerate(self._tunnels):
            if sent := int(outbound[index]["last"]):
                channel.last_sent = sent * 1e-9
                outbound[index]["last"] = 0
            if received := int(inbound["last"][begin:end].max(initial=0)):
                channel.last_received = received * 1e-9
                inbound["last"][begin:end] = 0
            if unsent:
                # The path may have become narrower (RFC 4301 §8.2).
                tunnel.measure(refused=True)
                self._revision = -1
        if path.wake is not None and any(channel.wants_rekey for _, channel, _, _ in self._tunnels):
            path.wake.set()

    # What the loops know of tunnels.

    def _learn(self) -> None:
        """Tables of all SAs as they are now."""
        path = self._path
        self._revision = path.revision
        self._revisions = [one.channel.revision for one in path.plain.tunnels]
        tunnels = [
            (one, one.channel)
            for one in path.plain.tunnels
            if isinstance(one, Tunnel) and isinstance(one.channel, EspChannel)
        ]
        pairs = [[pair for pair in channel.pairs.values() if pair is not channel.waiting] for _, channel in tunnels]
        ranges = [len(pair.local) + len(pair.remote) for row in pairs for pair in row]
        ranges += [len(channel.current.local) + len(channel.current.remote) for _, channel in tunnels]
        tables, inbound_states, outbound_states = _tables(sum(map(len, pairs)), len(tunnels), sum(ranges))
        self._tunnels = []
        row = used = 0
        for index, ((tunnel, channel), own) in enumerate(zip(tunnels, pairs, strict=True)):
            self._tunnels.append((tunnel, channel, row, row + len(own)))
            used = self._set_outbound(tables, index, tunnel, channel, used)
            channel.current.outbound.move_state(outbound_states[index])
            for pair in own:
                used = self._set_inbound(tables, row, tunnel, pair, used)
                pair.inbound.move_state(inbound_states[row])
                row += 1
        self._tables = tables

    def _set_outbound(self, tables: Tables, index: int, tunnel: Tunnel, channel: EspChannel, used: int) -> int:
        pair, entry = channel.current, tables.outbound[index]
        sa, target = pair.outbound, socket_address(tunnel.peer)
        entry["context"] = self._sealing.get(sa.protection) if target else 0
        entry["limit"] = min(tunnel.limit, self._slots.longest)
        entry["last_number"] = ((1 << 62) if sa.extended else LAST_SEQUENCE) - NUMBERS_KEPT
        if not isinstance(tunnel.port, UdpPort):
            raise ProgramFault("the loops were given a tunnel that goes by no UDP socket")
        entry["socket"], entry["splits"] = tunnel.port.descriptor, tunnel.port.splits
        return _set_common(tables, entry, sa, target, pair, used)

    def _set_inbound(self, tables: Tables, row: int, tunnel: Tunnel, pair: SaPair, used: int) -> int:
        entry, source = tables.inbound[row], socket_address(tunnel.peer)
        # Packets from another socket are the event loop's.
        first = self._path.plain.tunnels[0]
        served = isinstance(first, Tunnel) and tunnel.port is first.port
        entry["context"] = self._opening.get(pair.inbound.protection) if source and served else 0
        return _set_common(tables, entry, pair.inbound, source, pair, used)


def _set_common(tables: Tables, entry: Any, sa: Any, peer: bytes, pair: SaPair, used: int) -> int:
    """What both directions have: the SA's names, its peer, and its ranges, from row ``used`` on; the row behind."""
    entry["spi"], entry["extended"] = sa.spi, sa.extended
    entry["peer_size"] = len(peer)
    entry["peer"][: len(peer)] = np.frombuffer(peer, np.uint8)
    if isinstance(sa.protection, Combined) and sa.protection.twelve_octets:
        entry["salt"][:] = np.frombuffer(sa.protection.salt, np.uint8)
    entry["range_begin"] = used
    for is_remote, ranges in ((0, pair.local), (1, pair.remote)):
        for one in ranges:
            _set_range(tables.ranges[used], one, is_remote)
            used += 1
    entry["range_end"] = used
    return used


def _set_range(row: Any, one: AddressRange, is_remote: int) -> None:
    size = len(one.start)
    row["version"], row["remote"] = one.version, is_remote
    row["start"][:size], row["end"][:size] = np.frombuffer(one.start, np.uint8), np.frombuffer(one.end, np.uint8)


def _tables(inbound: int, outbound: int, ranges: int) -> tuple[Tables, Any, Any]:
    """Empty tables with so many rows, and the memory of the SAs' states as C structures."""
    inbound_states: Any = (InboundState * max(inbound, 1))()
    outbound_states: Any = (OutboundState * max(outbound, 1))()
    tables = Tables(
        np.zeros(inbound, records.INBOUND_SA),
        np.frombuffer(inbound_states, records.INBOUND_STATE),
        np.zeros(outbound, records.OUTBOUND_SA),
        np.frombuffer(outbound_states, records.OUTBOUND_STATE),
        np.zeros(ranges, records.RANGE),
    )
    return tables, inbound_states, outbound_states


def attach(path: DataPath, selector: PacketSelector | None) -> FastPath | CapsulePath | None:
    """The fast path of a data path, where the event loop allows it."""
    if path.kind_of_loops == FOR_CAPSULES:
        return CapsulePath(path)
    return FastPath(path, selector) if selector is not None else None
