"""Notices that this machine was suspended and runs again, without asking anybody, and without waking up for it.

A timer of the real-time clock that ends far in the future is cancelled by the kernel when that clock is set, which it
also is on resume (timerfd_create(2), TFD_TIMER_CANCEL_ON_SET). How long it was suspended, two other clocks tell: one of
them goes on meanwhile (clock_gettime(2), CLOCK_BOOTTIME).
"""

from __future__ import annotations

import ctypes
import os
import time
from contextlib import suppress

TFD_NONBLOCK, TFD_CLOEXEC = os.O_NONBLOCK, os.O_CLOEXEC
TFD_TIMER_ABSTIME, TFD_TIMER_CANCEL_ON_SET = 1, 2
"""Linux ``timerfd.h``."""
FAR_AWAY = 1 << 33
"""Seconds since 1970: no tunnel lasts until then."""

_libc = ctypes.CDLL(None, use_errno=True)


class _Setting(ctypes.Structure):
    _fields_ = tuple((name, ctypes.c_long) for name in ("every_s", "every_ns", "at_s", "at_ns"))


def open_sleep_watch() -> int:
    """A descriptor that becomes readable when the clock was set; -1 where the kernel has none to give."""
    descriptor: int = _libc.timerfd_create(time.CLOCK_REALTIME, TFD_NONBLOCK | TFD_CLOEXEC)
    if descriptor >= 0:
        _begin(descriptor)
    return descriptor


def drain_sleep_watch(descriptor: int) -> None:
    """Read what has come, and begin again."""
    # ECANCELED is what says that the clock was set.
    with suppress(OSError):
        os.read(descriptor, 8)
    _begin(descriptor)


def seconds_asleep() -> float:
    """For how long this machine has been suspended since it was started, in all."""
    return time.clock_gettime(time.CLOCK_BOOTTIME) - time.clock_gettime(time.CLOCK_MONOTONIC)


def _begin(descriptor: int) -> None:
    setting = _Setting(0, 0, FAR_AWAY, 0)
    _libc.timerfd_settime(descriptor, TFD_TIMER_ABSTIME | TFD_TIMER_CANCEL_ON_SET, ctypes.byref(setting), None)
