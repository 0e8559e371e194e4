"""A program for the kernel (classic BPF, linux/filter.h) that passes only frames which no allowance explains.

A capture with it costs next to nothing at full load: what is explained never leaves the kernel.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

from zesty_burrow.core.net import Network
from zesty_burrow.core.ways_out.beside import Allowed
from zesty_burrow.core.ways_out.classes.conditions import (
    DESTINATION,
    PORT,
    PROTOCOL,
    SOURCE_PORT,
    Condition,
    Conjunction,
)
from zesty_burrow.records import dataclass

INSTRUCTION = struct.Struct("=HBBI")
LOAD_WORD, LOAD_HALF, LOAD_BYTE = 0x20, 0x28, 0x30
LOAD_HALF_INDEXED, LOAD_HEADER_LENGTH = 0x48, 0xB1
AND, JUMP_EQUAL, JUMP_ABOVE, JUMP_AT_LEAST, JUMP_SET, JUMP, RETURN = 0x54, 0x15, 0x25, 0x35, 0x45, 0x05, 0x06
PACKET_TYPE, OUTGOING, PACKET_MARK = 0xFFFF_F004, 4, 0xFFFF_F014
"""Ancillary loads (SKF_AD_PKTTYPE, with its value for what this machine sends; SKF_AD_MARK)."""
DNS_PORT = 53
WHOLE_FRAME = 0x40000
ETHERNET = 14
IPV4, IPV6 = 0x0800, 0x86DD
CARRIERS = (0x8100, 0x88A8, 0x8863, 0x8864)
"""Frames that hold packets behind a header of their own: VLAN tags (IEEE 802.1Q), PPP over Ethernet (RFC 2516)."""
FRAGMENT = 44
MOST_INSTRUCTIONS = 4096


@dataclass(frozen=True, slots=True)
class OwnPort:
    """A local port of a socket of the tunnels' own."""

    protocol: int
    port: int


@dataclass(frozen=True, slots=True)
class WatchedPackets:
    """``belonging``: networks whose packets belong in a tunnel; ``allowed``: what of them may leave beside it, by
    version of IP; ``own``: the tunnels' own sockets, by which alone the allowance called "tunnel" is used; ``mark``: of
    their packets, 0: not known. The kernel sees it also where a socket is closed already; only who may configure the
    network can set it. Questions with it for the gateways' names are explained by themselves.
    """

    belonging: tuple[Network, ...]
    allowed: dict[int, tuple[Allowed, ...]]
    own: tuple[OwnPort, ...] = ()
    mark: int = 0


class _Program:
    """Instructions with jumps to places that come later."""

    def __init__(self) -> None:
        self.rows: list[tuple[int, str, str, int]] = []
        self.places: dict[str, int] = {}
        self._count = 0

    def add(self, code: int, value: int, yes: str = "", no: str = "") -> None:
        self.rows.append((code, yes, no, value & 0xFFFF_FFFF))

    def place(self, name: str) -> None:
        self.places[name] = len(self.rows)

    def fresh(self) -> str:
        self._count += 1
        return f"at {self._count}"

    def octets(self) -> bytes:
        """Raises ``ValueError`` for a program that is too long."""
        if len(self.rows) > MOST_INSTRUCTIONS:
            raise ValueError("too many allowances for a filter of the kernel")
        parts = []
        for number, (code, yes, no, value) in enumerate(self.rows):
            if code == JUMP:
                parts.append(INSTRUCTION.pack(code, 0, 0, self.places[yes] - number - 1))
                continue
            steps = [self.places[name] - number - 1 if name else 0 for name in (yes, no)]
            if any(not 0 <= step <= 255 for step in steps):
                raise ValueError("an allowance is too long for a filter of the kernel")
            parts.append(INSTRUCTION.pack(code, *steps, value))
        return b"".join(parts)


def capture_filter(watched: WatchedPackets, device: int, *, is_ethernet: bool) -> bytes:
    """For a packet socket at a device: whole frames at an Ethernet device, packets at others. ``ValueError`` where the
    allowances do not fit into one program: the filter is then to be done without.
    """
    program = _Program()
    start = ETHERNET if is_ethernet else 0
    program.add(LOAD_WORD, PACKET_TYPE)
    program.add(JUMP_EQUAL, OUTGOING, yes="outgoing")
    program.add(RETURN, 0)
    program.place("outgoing")
    if is_ethernet:
        _by_frame_type(program)
    else:
        _by_version(program)
    for version, place in ((4, "IPv4"), (6, "IPv6")):
        program.place(place)
        _packets(program, watched, version, start, device)
    return program.octets()


def _by_frame_type(program: _Program) -> None:
    program.add(LOAD_HALF, 12)
    for number in CARRIERS:
        program.add(JUMP_EQUAL, number, yes="carrier")
    program.add(JUMP_EQUAL, IPV4, yes="to IPv4")
    program.add(JUMP_EQUAL, IPV6, yes="to IPv6")
    # Frames that hold no packet of IP stay on the link.
    program.add(RETURN, 0)
    program.place("carrier")
    program.add(RETURN, WHOLE_FRAME)
    program.place("to IPv4")
    program.add(JUMP, 0, yes="IPv4")
    program.place("to IPv6")
    program.add(JUMP, 0, yes="IPv6")


def _by_version(program: _Program) -> None:
    program.add(LOAD_BYTE, 0)
    program.add(AND, 0xF0)
    program.add(JUMP_EQUAL, 0x40, yes="to IPv4")
    program.add(JUMP_EQUAL, 0x60, yes="to IPv6")
    program.add(RETURN, WHOLE_FRAME)
    program.place("to IPv4")
    program.add(JUMP, 0, yes="IPv4")
    program.place("to IPv6")
    program.add(JUMP, 0, yes="IPv6")


def _packets(program: _Program, watched: WatchedPackets, version: int, start: int, device: int) -> None:
    networks = [network for network in watched.belonging if network.version == version]
    if not any(network.prefixlen == 0 for network in networks):
        belongs = program.fresh()
        for network in networks:
            further = program.fresh()
            _in_network(program, network.network_address.packed, network.prefixlen, start, further)
            program.add(JUMP, 0, yes=belongs)
            program.place(further)
        program.add(RETURN, 0)
        program.place(belongs)
    if watched.mark:
        _own_questions(program, watched.mark, version, start)
    for allowed in watched.allowed.get(version, ()):
        if allowed.devices and device not in allowed.devices:
            continue
        for conjunction in allowed.match:
            is_tunnel = allowed.name == "tunnel"
            own = watched.own if is_tunnel else ()
            _allowance(program, conjunction, version, start, own, watched.mark if is_tunnel else 0)
    program.add(RETURN, WHOLE_FRAME)


def _own_questions(program: _Program, mark: int, version: int, start: int) -> None:
    """Packets with the mark to port 53 are explained."""
    further, asked = program.fresh(), program.fresh()
    program.add(LOAD_WORD, PACKET_MARK)
    program.add(JUMP_EQUAL, mark, no=further)
    program.add(LOAD_BYTE, start + (9 if version == 4 else 6))
    program.add(JUMP_EQUAL, 17, yes=asked)
    program.add(JUMP_EQUAL, 6, no=further)
    program.place(asked)
    code, base = (LOAD_HALF_INDEXED, start) if version == 4 else (LOAD_HALF, start + 40)
    if version == 4:
        program.add(LOAD_HEADER_LENGTH, start)
    program.add(code, base + 2)
    program.add(JUMP_EQUAL, DNS_PORT, no=further)
    program.add(RETURN, 0)
    program.place(further)


def _in_network(program: _Program, octets: bytes, length: int, start: int, otherwise: str) -> None:
    """The destination begins with so many bits of an address."""
    offset = start + (16 if len(octets) == 4 else 24)
    for word in range(0, len(octets), 4):
        bits = min(32, length - 8 * word)
        if bits <= 0:
            return
        mask = 0xFFFF_FFFF << (32 - bits) & 0xFFFF_FFFF
        program.add(LOAD_WORD, offset + word)
        if bits < 32:
            program.add(AND, mask)
        program.add(JUMP_EQUAL, int.from_bytes(octets[word : word + 4]) & mask, no=otherwise)


def _allowance(
    program: _Program, conjunction: Conjunction, version: int, start: int, own: Sequence[OwnPort], mark: int
) -> None:
    by_field = {condition.field: condition for condition in conjunction}
    if by_field.keys() - {DESTINATION, PROTOCOL, PORT, SOURCE_PORT}:
        # What cannot be seen in a packet, such as its user, is looked at where the capture is read.
        return
    further, explained = program.fresh(), program.fresh()
    if DESTINATION in by_field:
        low, high = by_field[DESTINATION].ranges[0]
        width = 32 if version == 4 else 128
        # A prefix, which is what allowances have.
        _in_network(program, low.to_bytes(width // 8), width - (low ^ high).bit_length(), start, further)
    if PROTOCOL in by_field:
        protocol = by_field[PROTOCOL].ranges[0][0]
        ports = [by_field.get(SOURCE_PORT), by_field.get(PORT)]
        own_ports = [one.port for one in own if one.protocol == protocol]
        by_owner = bool((own or mark) and protocol in (6, 17))
        with_ports = any(ports) or by_owner
        _protocol(program, protocol, version, start, further, explained if with_ports else "")
        if with_ports:
            _ports(program, ports, own_ports if by_owner else None, mark, version, start, further)
    program.place(explained)
    program.add(RETURN, 0)
    program.place(further)


def _protocol(program: _Program, protocol: int, version: int, start: int, otherwise: str, explained: str) -> None:
    """``explained``: where later fragments go, whose ports are in the first one; empty: ports are not asked for."""
    if version == 4:
        program.add(LOAD_BYTE, start + 9)
        program.add(JUMP_EQUAL, protocol, no=otherwise)
        if explained:
            program.add(LOAD_HALF, start + 6)
            program.add(JUMP_SET, 0x1FFF, yes=explained)
        return
    program.add(LOAD_BYTE, start + 6)
    if not explained:
        program.add(JUMP_EQUAL, protocol, no=otherwise)
        return
    whole, fragment = program.fresh(), program.fresh()
    program.add(JUMP_EQUAL, protocol, yes=whole)
    program.add(JUMP_EQUAL, FRAGMENT, yes=fragment, no=otherwise)
    program.place(fragment)
    program.add(LOAD_BYTE, start + 40)
    program.add(JUMP_EQUAL, protocol, no=otherwise)
    program.add(LOAD_HALF, start + 42)
    # A first fragment is looked at where the capture is read: its ports lie behind the header.
    program.add(JUMP_SET, 0xFFF8, yes=explained, no=otherwise)
    program.place(whole)


def _ports(
    program: _Program,
    ports: Sequence[Condition | None],
    own: list[int] | None,
    mark: int,
    version: int,
    start: int,
    otherwise: str,
) -> None:
    code, base = (LOAD_HALF_INDEXED, start) if version == 4 else (LOAD_HALF, start + 40)
    if version == 4:
        program.add(LOAD_HEADER_LENGTH, start)
    for condition, offset in zip(ports, (0, 2), strict=True):
        if condition is not None:
            program.add(code, base + offset)
            low, high = condition.ranges[0]
            program.add(JUMP_AT_LEAST, low, no=otherwise)
            program.add(JUMP_ABOVE, high, yes=otherwise)
    if own is not None:
        found = program.fresh()
        if mark:
            program.add(LOAD_WORD, PACKET_MARK)
            program.add(JUMP_EQUAL, mark, yes=found)
        program.add(code, base)
        for port in own:
            program.add(JUMP_EQUAL, port, yes=found)
        program.add(JUMP, 0, yes=otherwise)
        program.place(found)
