"""Notices changes of this machine: its routes, addresses, packet filter, resolver settings; and that it has moved."""

from __future__ import annotations

import asyncio
import logging
import os
import socket
from collections.abc import Callable
from contextlib import suppress

from zesty_burrow.carrier.control.log_lines import note
from zesty_burrow.host.names.resolv_conf import RESOLV_CONF
from zesty_burrow.host.watches.address_changes import drain, open_filter_watch, open_watch, source_towards
from zesty_burrow.host.watches.file_watch import drain_file_watch, open_file_watch
from zesty_burrow.host.watches.sleep_watch import drain_sleep_watch, open_sleep_watch, seconds_asleep

log = logging.getLogger(__name__)
LEAST_SLEEP = 1.0
"""Seconds of being suspended after which the gateway is asked."""
SETTLE, AT_ONCE = 0.3, 0.0
"""Seconds after a change until it is looked at: many small changes belong to one, but the guard must not be missing."""
BUSY, BUSY_GUARD = 2.0, 0.2
"""The same where there has just been one: a program that changes something all the time does not keep us busy."""


class MachineWatch:
    """``wake`` is set when something has changed and has settled; then the calls say what that means."""

    def __init__(self, wake: asyncio.Event) -> None:
        self._wake = wake
        self._source = ""
        self._away = False
        self._moved = self._changed = False
        self._settling: asyncio.TimerHandle | None = None
        self._settled_at = float("-inf")
        self._watches: list[socket.socket] = []
        self._files = self._sleep = -1
        self._asleep = 0.0
        self._guard: socket.socket | None = None

    def start(self) -> None:
        loop = asyncio.get_running_loop()
        self._watches.append(open_watch())
        # A kernel without a packet filter has no changes of it either.
        with suppress(OSError):
            self._watches.append(open_filter_watch())
        for watch, waits in zip(self._watches, ((SETTLE, BUSY), (AT_ONCE, BUSY_GUARD)), strict=False):
            loop.add_reader(watch.fileno(), self._readable, drain, watch, *waits)
        self._files = open_file_watch(RESOLV_CONF)
        if self._files >= 0:
            loop.add_reader(self._files, self._readable, drain_file_watch, self._files, SETTLE, BUSY)
        self._sleep, self._asleep = open_sleep_watch(), seconds_asleep()
        if self._sleep >= 0:
            loop.add_reader(self._sleep, self._clock_set)

    def stop(self) -> None:
        loop = asyncio.get_running_loop()
        if self._settling is not None:
            self._settling.cancel()
        for watch in self._watches:
            loop.remove_reader(watch.fileno())
            watch.close()
        self._watches.clear()
        self._leave_guard()
        for descriptor in (self._files, self._sleep):
            if descriptor >= 0:
                loop.remove_reader(descriptor)
                os.close(descriptor)
        self._files = self._sleep = -1

    @property
    def wants_guard(self) -> bool:
        """Whether the guard's process is not followed: from the start, or as it has died."""
        return self._guard is None

    def follow(self, guard: socket.socket | None) -> None:
        """Notice when the guard's process dies, which closes this connection."""
        self._leave_guard()
        self._guard = guard
        if guard is not None:
            asyncio.get_running_loop().add_reader(guard.fileno(), self._guard_died)

    def _guard_died(self) -> None:
        self._leave_guard()
        note(log, logging.WARNING, "guard's process died")
        self._settled()

    def _leave_guard(self) -> None:
        if self._guard is not None:
            asyncio.get_running_loop().remove_reader(self._guard.fileno())
            self._guard.close()
            self._guard = None

    def note(self, peer: str) -> None:
        """The tunnel to this address was set up here."""
        self._source = source_towards(peer)

    def take_change(self) -> bool:
        """Whether anything has changed since the last time."""
        changed, self._changed = self._changed, False
        return changed

    def take_move(self, peer: str) -> bool:
        """Whether this machine has moved since the last time, as seen from the route to ``peer``."""
        if not self._moved or not peer:
            return False
        self._moved = False
        source = source_towards(peer)
        # Also when the route was lost and is back: an address translator may have forgotten us.
        moved = bool(source) and (self._away or (bool(self._source) and source != self._source))
        self._away = not source
        self._source = source or self._source
        return moved

    def _readable(self, read: Callable[..., None], what: socket.socket | int, first: float, then: float) -> None:
        """``first``, ``then``: how long to wait after a change; and after one that follows another."""
        read(what)
        loop = asyncio.get_running_loop()
        due = loop.time() + (first if loop.time() - self._settled_at > then else then)
        if self._settling is not None and self._settling.when() <= due:
            return
        if self._settling is not None:
            self._settling.cancel()
        self._settling = loop.call_at(due, self._settled)

    def _clock_set(self) -> None:
        """By a program, or because this machine runs again after it was suspended."""
        drain_sleep_watch(self._sleep)
        before, self._asleep = self._asleep, seconds_asleep()
        if self._asleep - before >= LEAST_SLEEP:
            note(log, logging.INFO, "resumed", after_seconds=round(self._asleep - before, 1))
            # Whatever is between this machine and the gateway may have forgotten us.
            self._away = True
            self._settled()

    def _settled(self) -> None:
        self._settling = None
        self._settled_at = asyncio.get_running_loop().time()
        self._moved = self._changed = True
        self._wake.set()
