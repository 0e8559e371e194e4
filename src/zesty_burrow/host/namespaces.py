"""Namespaces of the kernel, for the lab (``os.setns`` and ``os.unshare`` are missing before Python 3.12)."""

from __future__ import annotations

import ctypes
import os
import socket
import sys
from contextlib import suppress
from pathlib import Path

CLONE_NEWNS = 0x00020000
CLONE_NEWUTS = 0x04000000
CLONE_NEWUSER = 0x10000000
CLONE_NEWPID = 0x20000000
CLONE_NEWNET = 0x40000000
MNT_DETACH = 2
MS_BIND, MS_REC, MS_PRIVATE, MS_NOSUID, MS_NODEV = 0x1000, 0x4000, 1 << 18, 2, 4
PR_SET_PDEATHSIG = 1
SO_NETNS_COOKIE = 71
"""Linux ``asm-generic/socket.h``."""

_libc = ctypes.CDLL(None, use_errno=True)


def _check(result: int, what: str) -> None:
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, f"{what}: {os.strerror(number)}")


def unshare(flags: int) -> None:
    """Leave some of the parent's namespaces."""
    _check(_libc.unshare(flags), "unshare")


def enter(pid: int, *kinds: str) -> None:
    """Enter namespaces of a process, in the order given (``user`` first where it is needed)."""
    descriptors = [os.open(f"/proc/{pid}/ns/{kind}", os.O_RDONLY | os.O_CLOEXEC) for kind in kinds]
    try:
        for descriptor, kind in zip(descriptors, kinds, strict=True):
            _check(_libc.setns(descriptor, 0), f"enter the {kind} namespace of process {pid}")
    finally:
        for descriptor in descriptors:
            os.close(descriptor)


def mount(source: str, target: str, kind: str = "", flags: int = 0, data: str = "") -> None:
    """mount(2)."""
    _check(
        _libc.mount(
            source.encode(), target.encode(), kind.encode() or None, ctypes.c_ulong(flags), data.encode() or None
        ),
        f"mount {target}",
    )


def unmount(target: str) -> None:
    """umount2(2) with MNT_DETACH: a busy mount is released after its last use."""
    _check(_libc.umount2(target.encode(), MNT_DETACH), f"unmount {target}")


def set_host_name(name: str) -> None:
    """The host name of the current UTS namespace."""
    _check(_libc.sethostname(name.encode(), len(name)), "sethostname")


def die_with_parent(signal_number: int) -> None:
    """Ask the kernel for a signal when the parent process ends."""
    _check(_libc.prctl(PR_SET_PDEATHSIG, signal_number, 0, 0, 0), "prctl")


def map_to_root(uid: int, gid: int, pid: str = "self") -> None:
    """Make the caller root inside the user namespace that it has just made."""
    for name, text in (("setgroups", "deny"), ("uid_map", f"0 {uid} 1"), ("gid_map", f"0 {gid} 1")):
        descriptor = os.open(f"/proc/{pid}/{name}", os.O_WRONLY)
        try:
            os.write(descriptor, text.encode())
        finally:
            os.close(descriptor)


def network_identity() -> int:
    """A number that tells this network namespace from others, for as long as the machine runs.

    Kernels before 5.14 have none: the file's number, which a later namespace may have again.
    """
    with suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as channel:
        return int.from_bytes(channel.getsockopt(socket.SOL_SOCKET, SO_NETNS_COOKIE, 8), sys.byteorder)
    return Path("/proc/self/ns/net").stat().st_ino
