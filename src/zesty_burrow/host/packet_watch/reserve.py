"""Packet sockets that a process makes while it still may: later it may only bind them to devices."""

from __future__ import annotations

import ctypes
import socket
import struct
from contextlib import suppress

SO_ATTACH_FILTER = 26
NOTHING = struct.pack("=HBBI", 0x06, 0, 0, 0)
"""A program that lets no frame through."""
RAW, PLAIN = 16, 4
"""How many for Ethernet devices, and for others."""
_lent: set[int] = set()
_reserved: dict[int, list[socket.socket]] = {socket.SOCK_RAW: [], socket.SOCK_DGRAM: []}


class _Program(ctypes.Structure):
    _fields_ = (("length", ctypes.c_ushort), ("filter", ctypes.c_void_p))


def attach(channel: socket.socket, program: bytes) -> None:
    """Have the kernel run a program (classic BPF) on each frame before this socket gets it. Raises ``OSError``."""
    room = ctypes.create_string_buffer(program)
    form = _Program(len(program) // 8, ctypes.addressof(room))
    channel.setsockopt(socket.SOL_SOCKET, SO_ATTACH_FILTER, bytes(form))


def reserve_packet_sockets() -> None:
    """Before CAP_NET_RAW is dropped. They take nothing until they are bound; without the right the list is empty."""
    for kind, count in ((socket.SOCK_RAW, RAW), (socket.SOCK_DGRAM, PLAIN)):
        with suppress(OSError):
            while len(_reserved[kind]) < count:
                _reserved[kind].append(socket.socket(socket.AF_PACKET, kind, 0))


def packet_socket(kind: int) -> socket.socket:
    """A packet socket that takes nothing yet: a new one, or a reserved one. Raises ``OSError``."""
    try:
        return socket.socket(socket.AF_PACKET, kind, 0)
    except PermissionError:
        if not _reserved[kind]:
            raise
        lent = _reserved[kind].pop()
        _lent.add(lent.fileno())
        return lent


def release(channel: socket.socket) -> None:
    """Close it; one that was reserved is kept for the next time."""
    if channel.fileno() in _lent:
        _lent.discard(channel.fileno())
        with suppress(OSError):
            # Bound to its device as before, but nothing comes from now on.
            attach(channel, NOTHING)
            channel.setblocking(False)
            with suppress(BlockingIOError):
                while True:
                    channel.recv(1)
            _reserved[channel.type].append(channel)
            return
    channel.close()
