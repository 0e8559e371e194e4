"""Netlink's octets: messages, attributes, and one exchange with the kernel (linux/netlink.h)."""

from __future__ import annotations

import os
import socket
import struct
from collections.abc import Iterator

REQUEST, ACK, DUMP, EXCLUSIVE, CREATE, APPEND = 0x1, 0x4, 0x300, 0x200, 0x400, 0x800
NESTED, KIND = 0x8000, 0x3FFF
NLMSG_ERROR, NLMSG_DONE = 2, 3
HEADER, ATTRIBUTE = struct.Struct("=LHHLL"), struct.Struct("=HH")
TIMEOUT = 5
ROOM = 1 << 20
"""Octets of one answer, and of the answers that wait for us."""


def attribute(kind: int, value: bytes) -> bytes:
    return ATTRIBUTE.pack(4 + len(value), kind) + value + bytes(-len(value) % 4)


def nest(kind: int, *parts: bytes) -> bytes:
    return attribute(kind | NESTED, b"".join(parts))


def text(kind: int, value: str) -> bytes:
    """A text with the zero octet at its end."""
    return attribute(kind, value.encode("utf-8", "surrogateescape") + b"\0")


def attributes(data: bytes) -> dict[int, bytes]:
    """The attributes in an answer of the kernel, by kind."""
    return dict(attribute_rows(data))


def attribute_rows(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The same in their order, of a kind each."""
    while len(data) >= ATTRIBUTE.size:
        length, kind = ATTRIBUTE.unpack_from(data)
        if length < ATTRIBUTE.size:
            return
        yield kind & KIND, data[ATTRIBUTE.size : length]
        data = data[(length + 3) & ~3 :]


def message(kind: int, flags: int, sequence: int, content: bytes) -> bytes:
    return HEADER.pack(HEADER.size + len(content), kind, flags | REQUEST, sequence, 0) + content


def open_channel(protocol: int) -> socket.socket:
    """A socket for one of netlink's protocols."""
    channel = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_CLOEXEC, protocol)
    channel.settimeout(TIMEOUT)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, ROOM)
    channel.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, ROOM)
    return channel


def answers(channel: socket.socket) -> Iterator[tuple[int, bytes]]:
    """The answers to one request, kind and content, until the kernel says that there are no more.

    Raises ``OSError`` with what the kernel refuses.
    """
    while True:
        for kind, content in split(channel.recv(ROOM)):
            if kind == NLMSG_DONE:
                return
            if kind == NLMSG_ERROR:
                raise_refusal(content)
                return
            yield kind, content


def split(received: bytes) -> Iterator[tuple[int, bytes]]:
    """The messages of one datagram."""
    while len(received) >= HEADER.size:
        size, kind, *_ = HEADER.unpack_from(received)
        if size < HEADER.size:
            return
        yield kind, received[HEADER.size : size]
        received = received[(size + 3) & ~3 :]


def raise_refusal(content: bytes) -> None:
    """``OSError`` where the kernel has refused; nothing where it has taken it."""
    code = struct.unpack_from("=i", content)[0]
    if code:
        raise OSError(-code, os.strerror(-code))
