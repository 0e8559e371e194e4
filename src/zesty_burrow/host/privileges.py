"""The rights that a tunnel's process keeps: to configure the network, and to answer for names (port 53)."""

from __future__ import annotations

import ctypes
import resource
from contextlib import suppress

from zesty_burrow.host.packet_watch.reserve import reserve_packet_sockets

CAP_NET_BIND_SERVICE, CAP_NET_ADMIN, CAP_NET_RAW = 10, 12, 13
KEPT = (CAP_NET_BIND_SERVICE, CAP_NET_ADMIN)
PR_SET_DUMPABLE, PR_CAPBSET_DROP, PR_SET_NO_NEW_PRIVS, PR_CAP_AMBIENT, PR_CAP_AMBIENT_CLEAR_ALL = 4, 24, 38, 47, 4
MCL_CURRENT, MCL_FUTURE, MCL_ONFAULT = 1, 2, 4
CAPABILITY_VERSION_3 = 0x20080522
LAST_CAPABILITY = 63
"""Linux ``prctl.h``, ``capability.h``, ``mman.h``."""

_libc = ctypes.CDLL(None, use_errno=True)


class _Header(ctypes.Structure):
    _fields_ = (("version", ctypes.c_uint32), ("pid", ctypes.c_int))


class _Data(ctypes.Structure):
    _fields_ = (("effective", ctypes.c_uint32), ("permitted", ctypes.c_uint32), ("inheritable", ctypes.c_uint32))


def keep_network_rights(*, raw: bool = False) -> None:
    """Drop every capability but those in ``KEPT``, for this thread and those that it starts, and for good.

    ``raw``: the one for raw sockets is kept too.

    To be called before there are other threads. Without capabilities there is nothing to drop. The packet sockets that
    the process will watch with are made first.
    """
    reserve_packet_sockets()
    wanted = (*KEPT, CAP_NET_RAW) if raw else KEPT
    for number in range(LAST_CAPABILITY + 1):
        if number not in wanted:
            # Those that the kernel does not know, or that we may not drop, are not there to be gained either.
            _libc.prctl(PR_CAPBSET_DROP, number, 0, 0, 0)
    _libc.prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
    header, data = _Header(CAPABILITY_VERSION_3, 0), (_Data * 2)()
    if _libc.capget(ctypes.byref(header), data) == 0:
        kept = data[0].permitted & sum(1 << number for number in wanted)
        data[0].effective = data[0].permitted = kept
        data[1].effective = data[1].permitted = 0
        data[0].inheritable = data[1].inheritable = 0
        _libc.capset(ctypes.byref(header), data)
    _libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)


def keep_secrets_in_memory() -> bool:
    """No core file, no debugger of the same user, and no page on a disk. Whether the pages could be locked.

    They are where there is no limit to it: with one, memory that is asked for later would be refused. To be called
    while this process may still raise its limits.
    """
    _libc.prctl(PR_SET_DUMPABLE, 0, 0, 0, 0)
    with suppress(OSError, ValueError):
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        resource.setrlimit(resource.RLIMIT_MEMLOCK, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
    except (OSError, ValueError):
        return False
    locked: bool = _libc.mlockall(MCL_CURRENT | MCL_FUTURE | MCL_ONFAULT) == 0
    return locked
