"""Probes against the guard: packets of our own by each of its hooks, and a capture that sees whether any leaves.

They go to addresses of RFC 5737 and RFC 3849, where nobody is. A frame that may leave shows that the capture works.
"""

from __future__ import annotations

import errno
import os
import select
import socket
import struct
import time
from collections.abc import Iterable
from contextlib import suppress

from zesty_burrow.errors import RightsMissing
from zesty_burrow.host.guard.probe_result import ProbeResult, ProbeRow
from zesty_burrow.host.guard.state import timestamp
from zesty_burrow.host.guard.tables.surroundings import OuterDevice
from zesty_burrow.records import dataclass

NOWHERE4, NOWHERE6 = "192.0.2.77", "2001:db8:dead::77"
PORT = 9
"""Discard (RFC 863)."""
WAIT = 0.15
"""Seconds in which a frame that leaves is seen."""
ETH_P_ALL, ARP, IPV4, IPV6 = 3, 0x0806, 0x0800, 0x86DD
SO_BINDTODEVICE = 25
BROADCAST = b"\xff" * 6
REFUSED = (errno.EPERM, errno.EACCES, errno.ENOBUFS)
"""Errors that a sender gets whose packet the guard has rejected or dropped."""
SENT, AT_DEVICE = "sent", "at the device"


@dataclass(frozen=True, slots=True)
class _Attempt:
    device: str
    hook: str
    kind: str
    word: bytes
    sent: bool
    why: str = ""


def probe(devices: Iterable[OuterDevice]) -> ProbeResult:
    """Send, and look. Raises :class:`RightsMissing` without CAP_NET_RAW."""
    outer = list(devices)
    try:
        capture = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ETH_P_ALL))
    except PermissionError:
        raise RightsMissing("probes cannot be sent", why="a capture needs CAP_NET_RAW") from None
    with capture:
        capture.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
        attempts = [attempt for device in outer for attempt in _attempts(device)]
        controls = {_control(device): device.name for device in outer if device.is_ethernet}
        seen = _listen(capture, {attempt.word for attempt in attempts} | controls.keys())
    rows, names = [], {device.name for device in outer}
    for attempt in attempts:
        # By whichever outer device: what the loopback device carries is the guard's own answer.
        left = sum(device in names for device, word in seen if word == attempt.word)
        rows.append(ProbeRow(attempt.device, attempt.hook, attempt.kind, int(attempt.sent), left, attempt.why))
    proven = tuple(sorted({name for word, name in controls.items() if (name, word) in seen}))
    return ProbeResult(timestamp(), tuple(rows), proven)


def _word(device: str, kind: str) -> bytes:
    return b"zesty guard probe %s %s %s" % (os.fsencode(device), kind.encode(), os.urandom(8).hex().encode())


def _attempts(device: OuterDevice) -> Iterable[_Attempt]:
    for version, target in ((4, NOWHERE4), (6, NOWHERE6)):
        yield _by_socket(device.name, version, target)
        yield _by_frame(device, version, target)


def _by_socket(device: str, version: int, target: str) -> _Attempt:
    """A datagram of a program that names the device itself: it meets what looks at packets that are sent."""
    kind = f"UDP over IPv{version}"
    word, why = _word(device, kind), ""
    family = socket.AF_INET if version == 4 else socket.AF_INET6
    with socket.socket(family, socket.SOCK_DGRAM) as channel:
        try:
            channel.setsockopt(socket.SOL_SOCKET, SO_BINDTODEVICE, os.fsencode(device))
            channel.sendto(word, (target, PORT))
            return _Attempt(device, SENT, kind, word, True)
        except OSError as problem:
            if problem.errno in REFUSED:
                return _Attempt(device, SENT, kind, word, True)
            why = problem.strerror or str(problem)
    return _Attempt(device, SENT, kind, word, False, why)


def _by_frame(device: OuterDevice, version: int, target: str) -> _Attempt:
    """A frame of a packet socket: it meets the device's own chain alone."""
    kind = f"a frame with IPv{version}"
    word = _word(device.name, kind)
    packet = _packet(version, target, word)
    kind_of_frame = IPV4 if version == 4 else IPV6
    head = BROADCAST + bytes(6) + kind_of_frame.to_bytes(2) if device.is_ethernet else b""
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW) as channel:
        try:
            channel.bind((device.name, kind_of_frame))
            channel.send(head + packet)
            return _Attempt(device.name, AT_DEVICE, kind, word, True)
        except OSError as problem:
            if problem.errno in REFUSED:
                return _Attempt(device.name, AT_DEVICE, kind, word, True)
            return _Attempt(device.name, AT_DEVICE, kind, word, False, problem.strerror or str(problem))


def _packet(version: int, target: str, word: bytes) -> bytes:
    datagram = struct.pack(">HHHH", PORT, PORT, 8 + len(word), 0) + word
    if version == 4:
        addresses = bytes(4) + socket.inet_aton(target)
        head = struct.pack(">BBHHHBBH8s", 0x45, 0, 20 + len(datagram), 0, 0, 1, 17, 0, addresses)
        total = sum(struct.unpack(">10H", head))
        total = (total & 0xFFFF) + (total >> 16)
        checksum = ~(total + (total >> 16)) & 0xFFFF
        return head[:10] + int(checksum).to_bytes(2) + head[12:] + datagram
    addresses = bytes(16) + socket.inet_pton(socket.AF_INET6, target)
    head = struct.pack(">IHBB32s", 6 << 28, len(datagram), 17, 1, addresses)
    return head + datagram


def _control(device: OuterDevice) -> bytes:
    """An ARP probe (RFC 5227 §2.1.1) for an address that nobody has: it may leave, and has to be seen."""
    hardware = b"\x02" + os.urandom(5)
    frame = BROADCAST + hardware + ARP.to_bytes(2) + struct.pack(">HHBBH", 1, IPV4, 6, 4, 1)
    frame += hardware + bytes(4) + bytes(6) + socket.inet_aton(NOWHERE4)
    with suppress(OSError), socket.socket(socket.AF_PACKET, socket.SOCK_RAW) as channel:
        channel.bind((device.name, ARP))
        channel.send(frame)
    return hardware


def _listen(capture: socket.socket, words: set[bytes]) -> set[tuple[str, bytes]]:
    """The words that were in outgoing frames, each with the device."""
    seen: set[tuple[str, bytes]] = set()
    until = time.monotonic() + WAIT
    while (left := until - time.monotonic()) > 0 and select.select([capture], [], [], left)[0]:
        frame, (device, _, direction, *_) = capture.recvfrom(65536)
        if direction == socket.PACKET_OUTGOING:
            seen |= {(device, word) for word in words if word in frame}
    return seen
