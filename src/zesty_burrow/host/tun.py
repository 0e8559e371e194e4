"""The tunnel device."""

from __future__ import annotations

import errno
import fcntl
import os
import struct
from dataclasses import dataclass

from zesty_burrow.errors import MachineError, RightsMissing

DEVICE = "/dev/net/tun"
TUNSETIFF = 0x400454CA
IFF_TUN, IFF_NO_PI, IFF_TUN_EXCL = 0x0001, 0x1000, 0x8000
PREFIX = "zesty"
MAX_DEVICES = 16


@dataclass(frozen=True, slots=True)
class TunDevice:
    """An open tunnel device: reads give packets that the machine sends, writes hand packets to it."""

    name: str
    descriptor: int

    def close(self) -> None:
        """Close it; the kernel removes the device with its addresses and routes."""
        os.close(self.descriptor)


def open_tun(prefix: str = PREFIX) -> TunDevice:
    """A new device of the first free number. Raises :class:`MachineError` with what is missing."""
    try:
        descriptor = os.open(DEVICE, os.O_RDWR | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise MachineError(
            f"there is no tunnel device {DEVICE}", next_step="Load the kernel's module: modprobe tun"
        ) from None
    except OSError as problem:
        raise MachineError(
            f"the tunnel device {DEVICE} cannot be opened",
            why=problem.strerror or str(problem),
            next_step=f"Have root allow it: chmod 0666 {DEVICE}; or run the command as root.",
            slug="tunnel-device-closed",
        ) from None
    for number in range(MAX_DEVICES):
        name = f"{prefix}{number}"
        request = struct.pack("16sH22x", name.encode(), IFF_TUN | IFF_NO_PI | IFF_TUN_EXCL)
        try:
            fcntl.ioctl(descriptor, TUNSETIFF, request)
        except OSError as problem:
            if problem.errno == errno.EBUSY:
                continue
            os.close(descriptor)
            if problem.errno == errno.EPERM:
                raise RightsMissing("a tunnel device cannot be made", why="it needs CAP_NET_ADMIN") from None
            raise MachineError("a tunnel device cannot be made", why=problem.strerror or str(problem)) from None
        return TunDevice(name, descriptor)
    os.close(descriptor)
    raise MachineError("a tunnel device cannot be made", why=f"{prefix}0 to {prefix}{MAX_DEVICES - 1} are in use")
