"""A stream of octets over TCP with a digest at both ends.

``carry.py receive ADDRESS PORT`` waits for one stream; ``carry.py send ADDRESS PORT OCTETS`` sends one. Both print the
octets and their digest.
"""

from __future__ import annotations

import hashlib
import socket
import sys

import numpy as np

BLOCK = 1 << 20
SILENCE = 60.0


def family(address: str) -> socket.AddressFamily:
    """IPv6 where there is a colon."""
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def receive(address: str, port: int) -> None:
    """One stream, to its end."""
    with socket.create_server((address, port), family=family(address)) as listener:
        print("ready", flush=True)
        stream, _ = listener.accept()
    digest, octets, buffer = hashlib.blake2b(), 0, bytearray(BLOCK)
    stream.settimeout(SILENCE)
    with stream:
        while count := stream.recv_into(buffer):
            digest.update(memoryview(buffer)[:count])
            octets += count
    print(octets, digest.hexdigest(), flush=True)


def send(address: str, port: int, octets: int) -> None:
    """A stream that never repeats itself in a block."""
    made, digest, sent = np.random.default_rng(7), hashlib.blake2b(), 0
    block = made.integers(0, 256, BLOCK, np.uint8)
    with socket.create_connection((address, port), timeout=SILENCE) as stream:
        while sent < octets:
            block += np.uint8(made.integers(1, 255))
            part = block.data[: min(BLOCK, octets - sent)]
            digest.update(part)
            stream.sendall(part)
            sent += len(part)
    print(sent, digest.hexdigest(), flush=True)


if __name__ == "__main__":
    if sys.argv[1] == "receive":
        receive(sys.argv[2], int(sys.argv[3]))
    else:
        send(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
