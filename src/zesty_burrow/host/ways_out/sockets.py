"""Sockets that are bound to a device, or marked, with their processes (NETLINK_SOCK_DIAG, linux/inet_diag.h)."""

from __future__ import annotations

import ipaddress
import os
import socket
import struct
import sys
from collections.abc import Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from zesty_burrow.core.ways_out.seen import BoundSocket
from zesty_burrow.host.netlink_messages import DUMP, answers, attributes, message, open_channel

NETLINK_SOCK_DIAG, BY_FAMILY = 4, 20
ID = struct.Struct(">HH16s16s")
MARK = 15
PROTOCOLS = {socket.IPPROTO_UDP: "UDP", socket.IPPROTO_TCP: "TCP", socket.IPPROTO_RAW: "raw"}
PROC = Path("/proc")
MOST = 4096


class SocketRow(NamedTuple):
    """A socket as the kernel lists it; ``device`` is a number."""

    protocol: int
    local: tuple[str, int]
    remote: tuple[str, int]
    device: int
    mark: int
    user: int
    inode: int


def sockets() -> Iterator[SocketRow]:
    """All UDP, TCP and raw sockets of this network namespace; kernels without some of these lists leave them out."""
    for family in (socket.AF_INET, socket.AF_INET6):
        for protocol in PROTOCOLS:
            with suppress(OSError):
                yield from _listed(family, protocol)


def _listed(family: int, protocol: int) -> Iterator[SocketRow]:
    content = struct.pack("=BBBBI48s", family, protocol, 0, 0, 0xFFFF_FFFF, b"")
    with open_channel(NETLINK_SOCK_DIAG) as channel:
        channel.sendto(message(BY_FAMILY, DUMP, 1, content), (0, 0))
        for _, answer in answers(channel):
            if len(answer) >= 72:
                yield _row(answer, family, protocol)


def _row(answer: bytes, family: int, protocol: int) -> SocketRow:
    local_port, remote_port, source, destination = ID.unpack_from(answer, 4)
    device = int.from_bytes(answer[40:44], sys.byteorder)
    user, inode = struct.unpack_from("=II", answer, 64)
    size = 4 if family == socket.AF_INET else 16
    local, remote = (str(ipaddress.ip_address(octets[:size])) for octets in (source, destination))
    mark = int.from_bytes(attributes(answer[72:]).get(MARK, b""), sys.byteorder)
    return SocketRow(protocol, (local, local_port), (remote, remote_port), device, mark, user, inode)


def processes_of(inodes: Iterable[int]) -> dict[int, str]:
    """The processes that have sockets open, name and number, as far as this user may see them."""
    wanted = {f"socket:[{inode}]": inode for inode in inodes}
    found: dict[int, str] = {}
    if not wanted:
        return found
    for folder in PROC.iterdir():
        if not folder.name.isdigit():
            continue
        with suppress(OSError):
            for entry in os.scandir(folder / "fd"):
                with suppress(OSError):
                    inode = wanted.get(str(Path(entry.path).readlink()))
                    if inode is not None and inode not in found:
                        found[inode] = f"{(folder / 'comm').read_text().strip()} ({folder.name})"
    return found


def bound_sockets(devices: dict[int, str], own_mark: int, ignored: Iterable[str]) -> list[BoundSocket]:
    """Those that are bound to a device other than the ``ignored`` ones, or marked; without the tunnels' own."""
    left_out = set(ignored)
    rows = [
        row
        for row in sockets()
        if (row.mark and row.mark != own_mark)
        or (row.device and row.mark != own_mark and devices.get(row.device, "") not in left_out)
    ][:MOST]
    names = processes_of(row.inode for row in rows)
    return [
        BoundSocket(
            PROTOCOLS[row.protocol], _endpoint(row.local), _endpoint(row.remote), devices.get(row.device, ""), row.mark,
            row.user, names.get(row.inode, ""),
        )
        for row in rows
    ]  # fmt: skip


def _endpoint(endpoint: tuple[str, int]) -> str:
    address, port = endpoint
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
