"""A wire that loses, delays and forges: frames pass from one device to the other through this process.

``rough_link.py DEVICE DEVICE LOSS SWAP FORGED``: the share of UDP frames that are lost, the share that are held back
until some later ones have passed, and how many forged ESP packets a second go to each side. Forged are copies of ESP
packets that went by, with other numbers, other content or another end; repeated are some as they were.
"""

from __future__ import annotations

import random
import select
import socket
import sys
import time
from collections import deque

ALL, IPV4, UDP = 0x0003, b"\x08\x00", 17
SOL_PACKET, IGNORE_OUTGOING = 263, 23
BATCH, HELD = 64, 4
TICK = 0.01


def port(device: str) -> socket.socket:
    """Every frame of a device."""
    found = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL))
    found.setsockopt(SOL_PACKET, IGNORE_OUTGOING, 1)
    for option in (socket.SO_RCVBUF, socket.SO_SNDBUF):
        found.setsockopt(socket.SOL_SOCKET, {socket.SO_RCVBUF: 33, socket.SO_SNDBUF: 32}[option], 8 << 20)
    found.bind((device, ALL))
    found.setblocking(False)
    return found


def is_udp(frame: bytearray) -> bool:
    """Whether it is UDP over IPv4, without fragments."""
    return frame[12:14] == IPV4 and frame[23] == UDP and not (frame[20] & 0x3F or frame[21])


def forge(chance: random.Random, frame: bytes) -> bytes:
    """An ESP packet that was never sent, or one that was sent before."""
    made = bytearray(frame)
    payload = 14 + (made[14] & 0xF) * 4 + 8
    kind = chance.randrange(4)
    if kind == 0:
        made[payload + 4 : payload + 8] = chance.randbytes(4)
    elif kind == 1:
        number = int.from_bytes(made[payload + 4 : payload + 8]) + chance.randrange(1, 200)
        made[payload + 4 : payload + 8] = (number & 0xFFFFFFFF).to_bytes(4)
    elif kind == 2:
        at = chance.randrange(payload + 8, len(made))
        made[at] ^= 1 << chance.randrange(8)
    return bytes(made)


class Way:
    """One direction."""

    def __init__(self, source: socket.socket, target: socket.socket, loss: float, swap: float, seed: int) -> None:
        self.source, self.target = source, target
        self.loss, self.swap = loss, swap
        self.chance = random.Random(seed)
        self.held: deque[tuple[int, bytes]] = deque()
        self.esp: bytes | None = None
        self.passed = self.lost = self.swapped = self.forged = 0

    def pass_on(self) -> None:
        """What has come."""
        for _ in range(BATCH):
            try:
                frame = bytearray(self.source.recv(65535))
            except BlockingIOError:
                break
            self._one(frame)

    def _one(self, frame: bytearray) -> None:
        self.passed += 1
        if is_udp(frame):
            payload = 14 + (frame[14] & 0xF) * 4 + 8
            # The sender's kernel leaves the sum to a device that is not there; none is needed (RFC 768).
            frame[payload - 2 : payload] = b"\0\0"
            if frame[payload : payload + 4] != bytes(4) and len(frame) > payload + 40:
                self.esp = bytes(frame)
                if self.chance.random() < self.loss:
                    self.lost += 1
                    return
                if self.chance.random() < self.swap:
                    self.swapped += 1
                    self.held.append((self.passed + HELD, bytes(frame)))
                    return
        self._send(frame)
        while self.held and self.held[0][0] <= self.passed:
            self._send(self.held.popleft()[1])

    def let_go(self) -> None:
        """What was held back and nothing came after."""
        while self.held:
            self._send(self.held.popleft()[1])

    def forge(self, count: int) -> None:
        """So many forged packets."""
        for _ in range(count if self.esp is not None else 0):
            self._send(forge(self.chance, self.esp or b""))
            self.forged += 1

    def _send(self, frame: bytes | bytearray) -> None:
        try:
            self.target.send(frame)
        except OSError:
            self.lost += 1


def main() -> None:
    """Until the end of standard input; then what was done, a line for each direction."""
    loss, swap, forged = map(float, sys.argv[3:6])
    one, other = port(sys.argv[1]), port(sys.argv[2])
    ways = Way(one, other, loss, swap, 1), Way(other, one, loss, swap, 2)
    by_socket = {one.fileno(): ways[0], other.fileno(): ways[1]}
    poll = select.poll()
    for descriptor in (*by_socket, 0):
        poll.register(descriptor, select.POLLIN)
    print("ready", flush=True)
    due, owed = time.monotonic() + TICK, 0.0
    while True:
        for descriptor, _ in poll.poll(TICK * 1000):
            if descriptor == 0:
                for way in ways:
                    print(way.passed, way.lost, way.swapped, way.forged, flush=True)
                return
            by_socket[descriptor].pass_on()
        if time.monotonic() >= due:
            due, owed = time.monotonic() + TICK, owed + forged * TICK
            for way in ways:
                way.let_go()
                way.forge(int(owed))
            owed -= int(owed)


if __name__ == "__main__":
    main()
