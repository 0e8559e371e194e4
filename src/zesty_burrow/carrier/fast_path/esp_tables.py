"""Tables of all SAs for loops that carry ESP: keys, selectors, numbers; and what the loops have noted in them."""

from __future__ import annotations

import ipaddress
import socket
import struct
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305

from zesty_burrow.carrier.data_path.carried import CarriedPath
from zesty_burrow.carrier.data_path.tunnel import DatagramPort, Tunnel
from zesty_burrow.carrier.fast_path.loops import records
from zesty_burrow.carrier.fast_path.loops.records import Tables
from zesty_burrow.carrier.fast_path.symbols import Context
from zesty_burrow.carrier.ports.udp_port import UdpPort
from zesty_burrow.core.crypto.protection import Combined, Protection
from zesty_burrow.core.esp.channel import EspChannel, Ranges, SaPair
from zesty_burrow.core.esp.sa import LAST_SEQUENCE, InboundState, OutboundState
from zesty_burrow.core.net import AddressRange, Endpoint

NUMBERS_KEPT = 1 << 20
"""Sequence numbers that are left to the plain path, which ends the tunnel properly once they are used up."""
NO_SOCKET = -1


def socket_address(endpoint: Endpoint) -> bytes:
    """As the system's calls have it (RFC 3493 §3.3); empty where it is of one link only."""
    host, port = endpoint
    if "%" in host:
        return b""
    address = ipaddress.ip_address(host)
    if address.version == 4:
        return struct.pack("=H", socket.AF_INET) + port.to_bytes(2) + address.packed + bytes(8)
    return struct.pack("=H", socket.AF_INET6) + port.to_bytes(2) + bytes(4) + address.packed + bytes(4)


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


class EspTables:
    """``tables``: for the loops; ``tunnels``: each with its channel and its rows of inbound SAs.

    ``longest``: octets of an inner packet that the loops have room for.
    """

    def __init__(self, longest: int) -> None:
        self.tunnels: list[tuple[Tunnel, EspChannel, int, int]] = []
        self.tables = empty_tables(0, 0, 0)[0]
        self._longest = longest
        self._revision = -1
        self._revisions: list[int] = []
        self._opening, self._sealing = Contexts(sealing=False), Contexts(sealing=True)

    def forget(self) -> None:
        """Read everything again at the next look."""
        self._revision = -1

    def look(self, path: CarriedPath, served: DatagramPort | None) -> None:
        """Take over what has changed of a path's tunnels. ``served``: whose packets the loops get to see, None: all."""
        revisions = [tunnel.channel.revision for tunnel in path.plain.tunnels]
        if self._revision != path.revision or self._revisions != revisions:
            self._revision, self._revisions = path.revision, revisions
            self._learn(path, served)
        for index, (_, channel, _, _) in enumerate(self.tunnels):
            self.tables.outbound[index]["octet_limit"] = channel.octet_limit

    def settle(self, path: CarriedPath) -> None:
        """Hand on to the channels when something was sent or received; tell who wants new keys."""
        inbound, outbound = self.tables.inbound, self.tables.outbound
        for index, (_, channel, begin, end) in enumerate(self.tunnels):
            if sent := int(outbound[index]["last"]):
                channel.last_sent = sent * 1e-9
                outbound[index]["last"] = 0
            if received := int(inbound["last"][begin:end].max(initial=0)):
                channel.last_received = received * 1e-9
                inbound["last"][begin:end] = 0
        if path.wake is not None and any(channel.wants_rekey for _, channel, _, _ in self.tunnels):
            path.wake.set()

    def _learn(self, path: CarriedPath, served: DatagramPort | None) -> None:
        tunnels = [
            (one, one.channel)
            for one in path.plain.tunnels
            if isinstance(one, Tunnel) and isinstance(one.channel, EspChannel)
        ]
        pairs = [[pair for pair in channel.pairs.values() if pair is not channel.waiting] for _, channel in tunnels]
        shown = [channel.ranges_of(pair) for (_, channel), row in zip(tunnels, pairs, strict=True) for pair in row]
        shown += [channel.ranges_of(channel.current) for _, channel in tunnels]
        ranges = [len(local) + len(remote) for local, remote in shown]
        tables, inbound_states, outbound_states = empty_tables(sum(map(len, pairs)), len(tunnels), sum(ranges))
        self.tunnels = []
        row = used = 0
        for index, ((tunnel, channel), own) in enumerate(zip(tunnels, pairs, strict=True)):
            self.tunnels.append((tunnel, channel, row, row + len(own)))
            used = self._set_outbound(tables, index, tunnel, channel, used)
            channel.current.outbound.move_state(outbound_states[index])
            for pair in own:
                used = self._set_inbound(tables, row, tunnel, (channel, pair), served, used)
                pair.inbound.move_state(inbound_states[row])
                row += 1
        self.tables = tables

    def _set_outbound(self, tables: Tables, index: int, tunnel: Tunnel, channel: EspChannel, used: int) -> int:
        pair, entry = channel.current, tables.outbound[index]
        sa, target = pair.outbound, socket_address(tunnel.peer)
        entry["context"] = self._sealing.get(sa.protection) if target else 0
        entry["limit"] = min(tunnel.limit, self._longest)
        entry["last_number"] = ((1 << 62) if sa.extended else LAST_SEQUENCE) - NUMBERS_KEPT
        port = tunnel.port
        entry["socket"] = port.descriptor if isinstance(port, UdpPort) else NO_SOCKET
        entry["splits"] = port.splits
        _set_front(entry, channel.front_out())
        return _set_common(tables, entry, sa, target, channel.ranges_of(pair), used)

    def _set_inbound(
        self,
        tables: Tables,
        row: int,
        tunnel: Tunnel,
        own: tuple[EspChannel, SaPair],
        served: DatagramPort | None,
        used: int,
    ) -> int:
        channel, pair = own
        entry, source = tables.inbound[row], socket_address(tunnel.peer)
        # Packets from another socket are the event loop's.
        is_served = served is None or tunnel.port is served
        entry["context"] = self._opening.get(pair.inbound.protection) if source and is_served else 0
        _set_front(entry, channel.front_in())
        return _set_common(tables, entry, pair.inbound, source, channel.ranges_of(pair), used)


def _set_front(entry: Any, front: bytes | None) -> None:
    """What is in front of each packet; where that is not always the same the loops leave it alone."""
    if front is None:
        entry["context"] = 0
        return
    entry["in_front"] = len(front)
    entry["front"][: len(front)] = np.frombuffer(front, np.uint8)


def _set_common(tables: Tables, entry: Any, sa: Any, peer: bytes, ranges: Ranges, used: int) -> int:
    """What both directions have: the SA's names, its peer, and its ranges, from row ``used`` on; the row behind."""
    entry["spi"], entry["extended"] = sa.spi, sa.extended
    entry["peer_size"] = len(peer)
    entry["peer"][: len(peer)] = np.frombuffer(peer, np.uint8)
    if isinstance(sa.protection, Combined) and sa.protection.twelve_octets:
        entry["salt"][:] = np.frombuffer(sa.protection.salt, np.uint8)
    entry["range_begin"] = used
    for is_remote, row in enumerate(ranges):
        for one in row:
            _set_range(tables.ranges[used], one, is_remote)
            used += 1
    entry["range_end"] = used
    return used


def _set_range(row: Any, one: AddressRange, is_remote: int) -> None:
    size = len(one.start)
    row["version"], row["remote"] = one.version, is_remote
    row["start"][:size], row["end"][:size] = np.frombuffer(one.start, np.uint8), np.frombuffer(one.end, np.uint8)


def empty_tables(inbound: int, outbound: int, ranges: int) -> tuple[Tables, Any, Any]:
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
