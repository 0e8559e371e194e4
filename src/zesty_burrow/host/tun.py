"""The tunnel device."""

from __future__ import annotations

import errno
import fcntl
import os
import struct
from collections.abc import Sequence

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.errors import MachineError, RightsMissing
from zesty_burrow.host.paths import program_as_root
from zesty_burrow.records import dataclass

DEVICE = "/dev/net/tun"
TUNSETIFF = 0x400454CA
TUNSETOFFLOAD, TUNGETFEATURES = 0x400454D0, 0x800454CF
IFF_TUN, IFF_NO_PI, IFF_VNET_HDR, IFF_TUN_EXCL = 0x0001, 0x1000, 0x4000, 0x8000
OFFLOAD_CHECKSUM, OFFLOAD_TCP, OFFLOAD_UDP = 0x01, 0x02 | 0x04, 0x20 | 0x40
"""Linux ``if_tun.h``: what may be left to us: checksums, TCP and UDP in pieces, of IPv4 and IPv6."""
PREFIX = "zesty"
MAX_DEVICES = 16


@dataclass(frozen=True, slots=True)
class TunDevice:
    """An open tunnel device: reads give packets that the machine sends, writes hand packets to it.

    ``header``: with an offload header before each; ``joins``: the protocols whose packets may go many in one piece.
    """

    name: str
    descriptor: int
    header: bool = False
    joins: frozenset[int] = frozenset()

    def write(self, parts: Sequence[bytes | memoryview]) -> None:
        """Hand one packet to the machine, its parts one behind the other.

        What the device refuses (it is down, or its queue is full) is lost as on any other link.
        """
        try:
            os.writev(self.descriptor, parts)
        except OSError:
            return

    def close(self) -> None:
        """Close it; the kernel removes the device with its addresses and routes."""
        os.close(self.descriptor)


def open_tun(prefix: str = PREFIX, disabled: frozenset[str] = frozenset()) -> TunDevice:
    """A new device of the first free number. Raises :class:`MachineError` with what is missing.

    ``disabled``: ``device-tcp`` and ``device-udp`` are not asked for.
    """
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
            next_step=f"Run it as root: {program_as_root()} connect NAME",
            slug="tunnel-device-closed",
        ) from None
    wanted = {name for name in ("device-tcp", "device-udp") if name not in disabled}
    features = struct.unpack("I", fcntl.ioctl(descriptor, TUNGETFEATURES, bytes(4)))[0]
    header = bool(wanted) and bool(features & IFF_VNET_HDR)
    flags = IFF_TUN | IFF_NO_PI | IFF_TUN_EXCL | (IFF_VNET_HDR if header else 0)
    for number in range(MAX_DEVICES):
        name = f"{prefix}{number}"
        request = struct.pack("16sH22x", name.encode(), flags)
        try:
            fcntl.ioctl(descriptor, TUNSETIFF, request)
        except OSError as problem:
            if problem.errno == errno.EBUSY:
                continue
            os.close(descriptor)
            if problem.errno == errno.EPERM:
                raise RightsMissing("a tunnel device cannot be made", why="it needs CAP_NET_ADMIN") from None
            raise MachineError("a tunnel device cannot be made", why=problem.strerror or str(problem)) from None
        return TunDevice(name, descriptor, header, _offloads(descriptor, wanted) if header else frozenset())
    os.close(descriptor)
    raise MachineError("a tunnel device cannot be made", why=f"{prefix}0 to {prefix}{MAX_DEVICES - 1} are in use")


def _offloads(descriptor: int, wanted: set[str]) -> frozenset[int]:
    """Ask for what is needed, the most first; the protocols for which the kernel has agreed."""
    tcp = OFFLOAD_TCP if "device-tcp" in wanted else 0
    udp = OFFLOAD_UDP if "device-udp" in wanted else 0
    for flags in dict.fromkeys((tcp | udp, tcp)):
        try:
            fcntl.ioctl(descriptor, TUNSETOFFLOAD, OFFLOAD_CHECKSUM | flags if flags else 0)
        except OSError:
            continue
        return frozenset((TCP,) * bool(flags & OFFLOAD_TCP) + (UDP,) * bool(flags & OFFLOAD_UDP))
    return frozenset()
