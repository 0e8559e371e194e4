"""The guard's own process: it owns the packet filter's tables, and outlives every tunnel's process.

It keeps who holds what, sets the tables, looks at them again whenever any program has changed the packet filter or the
devices, and restores any difference. It ends by itself once nobody holds anything. When it dies the kernel keeps the
tables, which the next one takes over; a second process beside it starts it again at once.
"""

from __future__ import annotations

import os
import select
import selectors
import socket
import time
from collections import deque
from contextlib import suppress
from pathlib import Path
from typing import Any

from zesty_burrow.errors import (
    BurrowError,
    ProgramFault,
    RightsMissing,
    StateError,
    as_error,
    error_document,
)
from zesty_burrow.host.guard.holders import (
    Shares,
    holding,
    next_deadline,
    unconfirmed,
    with_share,
    without,
)
from zesty_burrow.host.guard.owner.wire import Connection
from zesty_burrow.host.guard.plan import Share, together
from zesty_burrow.host.guard.record import BY_USER, GuardRecord, read_record, unknown_holder, write_record
from zesty_burrow.host.guard.state import timestamp
from zesty_burrow.host.guard.tables.kernel import KernelGuard, read_counts, read_portal
from zesty_burrow.host.packet_filter.messages import NETDEV
from zesty_burrow.host.watches.address_changes import drain, open_watch
from zesty_burrow.host.watches.filter_changes import FilterWatch
from zesty_burrow.records import replace

VERSION = 1
NAME = "zesty-guard"
"""Of the process, as the kernel and `ps` show it."""
IDLE = 2.0
"""Seconds after which the process ends when nobody holds anything."""
LOOK_AGAIN = 0.2
"""Seconds between two looks at the tables, at the least."""
TOLD_WITHIN = 0.02
"""Seconds within which the kernel tells of a change that can be seen already."""
SETTLE = 0.02
"""Seconds after a change of the devices until they are read: several messages belong to one change."""
MAX_EVENTS, MAX_CALLERS, MAX_STRANGERS = 50, 64, 16
"""Kept; connections at one time; and those of them by users who may only ask."""


def since_start() -> float:
    """Seconds of the clock that runs since the machine's start, also while it sleeps."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


class GuardService:
    """``path``: the record; ``stays``: it does not end by itself. ``owned``, ``egress``: less than the kernel can, for
    older ones.
    """

    def __init__(self, path: Path, *, stays: bool = False, owned: bool = True, egress: bool = True) -> None:
        self._path, self._stays = path, stays
        self._kernel = KernelGuard(owned=owned, egress=egress)
        self._shares: dict[str, Share] = {}
        self._at_start: dict[str, Share] = {}
        self._events: deque[dict[str, str]] = deque(maxlen=MAX_EVENTS)
        self._measured: dict[str, Any] = {}
        self._look_at = self._around_at = float("inf")
        self._looked = float("-inf")
        self._changed_by = ""
        self._filters: FilterWatch | None = None
        self._idle_since = time.monotonic()
        self._ended = False

    # Beginning.

    def begin(self) -> None:
        """Take over what is recorded, and what an earlier process has left in the kernel. Raises a ``BurrowError``."""
        record = read_record(self._path)
        self._kernel.look_around()
        self._at_start, self._shares = dict(record.at_start), self._holders(record)
        if self._shares:
            # On a full disk the tables are taken over all the same.
            with suppress(OSError, BurrowError):
                self._write()
        held = holding(self._shares)
        if held and not self._kernel.adopt(together(self._shares.values())):
            left_over = self._kernel.compare().present
            self._apply()
            if left_over:
                self._note("an earlier process left other rules; they were replaced")
        self._measure()

    def _holders(self, record: GuardRecord) -> dict[str, Share]:
        why = record.damaged and f"{self._path}: {record.damaged}"
        if not why and not record.is_there and self._kernel.compare().present:
            why = f"the kernel has the guard's table, and {self._path} is missing"
        if not why:
            return dict(record.shares)
        self._note(why)
        return {BY_USER: replace(unknown_holder(why), since=timestamp())}

    # The loop.

    def run(self, listening: socket.socket) -> None:
        """Serve until nobody needs it any more, or another process takes over."""
        selector = selectors.DefaultSelector()
        selector.register(listening, selectors.EVENT_READ, "listening")
        self._filters, devices = FilterWatch(), open_watch()
        selector.register(self._filters.channel, selectors.EVENT_READ, "filters")
        selector.register(devices, selectors.EVENT_READ, "devices")
        while not self._ended:
            for key, _ in selector.select(self._pause()):
                if key.data == "listening":
                    self._accept(listening, selector)
                elif key.data == "filters":
                    self._filters_changed()
                elif key.data == "devices":
                    drain(devices)
                    self._around_at = min(self._around_at, time.monotonic() + SETTLE)
                else:
                    self._serve(key.data, selector)
            self._on_time(len(selector.get_map()) > 3)

    def _pause(self) -> float:
        now = time.monotonic()
        due = min(self._look_at, self._around_at)
        if not self._shares and not self._stays:
            due = min(due, self._idle_since + IDLE)
        deadline = next_deadline(self._shares) - since_start()
        return max(min(due - now, deadline, 3600.0), 0.0)

    def _on_time(self, has_callers: bool) -> None:
        now = time.monotonic()
        if now >= self._around_at:
            self._around_at = float("inf")
            self._try(self._follow_devices)
        if now >= self._look_at:
            self._look_at = float("inf")
            self._try(self._look)
        if late := unconfirmed(self._shares, since_start()):
            self._note(f"not confirmed in time: {', '.join(self._shares[key].what for key in late)}")
            self._try(lambda: self._become({key: one for key, one in self._shares.items() if key not in late}))
        if not self._shares and not self._stays and not has_callers and now >= self._idle_since + IDLE:
            self._ended = True

    def _try(self, act: Any) -> None:
        """What fails here is in the events; the tables stay as they are, and it is tried again with the next change."""
        try:
            act()
        except (BurrowError, OSError) as problem:
            self._note(f"failed: {problem}")

    # The tables.

    def _filters_changed(self) -> None:
        changes = self._filters.take_changes() if self._filters is not None else []
        foreign = [change for change in changes if change.name != NAME]
        # Where the kernel had to leave messages out, whose change it was is known from others, or not at all.
        self._changed_by = next((change.words for change in reversed(foreign) if change.words), self._changed_by)
        if changes:
            wait = LOOK_AGAIN if time.monotonic() - self._looked < LOOK_AGAIN else 0.0
            self._look_at = min(self._look_at, time.monotonic() + (wait if foreign else LOOK_AGAIN))

    def _follow_devices(self) -> None:
        if self._kernel.look_around() and holding(self._shares):
            self._apply()
            self._look_at = min(self._look_at, time.monotonic() + LOOK_AGAIN)

    def _look(self) -> bool:
        """Compare the kernel's tables with what is meant, and restore any difference. Whether there was one."""
        # Whose change it was may still wait to be read.
        self._filters_changed()
        self._looked = time.monotonic()
        repaired = self._repair_record()
        if self._measure():
            differences = "; ".join(self._measured["differences"])
            self._kernel.set_whole(together(self._shares.values()))
            self._note(f"{differences}: restored", self._who())
            self._measure()
            return True
        self._changed_by = ""
        return repaired

    def _who(self) -> str:
        """Whose change it was. The kernel tells of a change a moment after it can be seen."""
        if not self._changed_by and self._filters is not None:
            until = time.monotonic() + TOLD_WITHIN
            while not self._changed_by and (left := until - time.monotonic()) > 0:
                select.select([self._filters.channel], [], [], left)
                self._filters_changed()
        by, self._changed_by = self._changed_by, ""
        return by

    def _repair_record(self) -> bool:
        """What this process knows is written again where the file is gone, or is no record. Whether it was."""
        record = read_record(self._path)
        if record.damaged or (not record.is_there and (self._shares or self._at_start)):
            try:
                self._write()
            except (OSError, BurrowError):
                # A full or read-only disk: it is tried again with the next look, and the tables are looked at anyway.
                return False
            self._note(
                f"{self._path} {(record.damaged and f'was damaged: {record.damaged}') or 'was missing'}; written again"
            )
            return True
        return False

    def _measure(self) -> bool:
        """Look at the kernel; whether it has something else than what is meant."""
        seen = self._kernel.compare()
        held = bool(holding(self._shares))
        wrong = list(seen.differences) if held else []
        if held and self._kernel.owned and seen.present and seen.owner != self._kernel.channel.port:
            wrong.append("another process owns the table")
        self._measured = {
            "at": timestamp(),
            "present": seen.present,
            "differences": wrong,
            "owned": bool(seen.owner) and seen.owner == self._kernel.channel.port,
            "devices": list(seen.devices),
            "without": list(seen.without),
            "why_without": self._kernel.why_no_egress,
        }
        return bool(wrong)

    def _apply(self) -> None:
        if holding(self._shares):
            self._kernel.set(together(self._shares.values()))
        elif self._kernel.specs:
            self._kernel.remove()

    def _become(self, shares: Shares) -> None:
        """Record other shares, and put them in force; where the kernel refuses, the record says what is in force
        still.
        """
        before, self._shares = self._shares, dict(shares)
        try:
            self._write()
            self._apply()
        except BaseException:
            self._shares = before
            with suppress(OSError, BurrowError):
                self._write()
            raise
        self._idle_since = time.monotonic()
        # What was set is read back a moment later: nobody has to wait for it.
        self._look_at = min(self._look_at, time.monotonic() + LOOK_AGAIN)

    def _write(self) -> None:
        write_record(self._path, self._shares, self._at_start)

    def _note(self, what: str, by: str = "") -> None:
        self._events.append({"at": timestamp(), "what": what, "process": by})

    # Calls.

    def _accept(self, listening: socket.socket, selector: selectors.BaseSelector) -> None:
        with suppress(OSError):
            channel, _ = listening.accept()
            connection = Connection(channel)
            callers = [key.data for key in selector.get_map().values() if isinstance(key.data, Connection)]
            # Other users cannot take the places of those who may change the guard.
            strangers = [caller for caller in callers if not self._is_trusted(caller.uid)]
            too_many = len(callers) >= MAX_CALLERS
            if too_many or (not self._is_trusted(connection.uid) and len(strangers) >= MAX_STRANGERS):
                channel.close()
                return
            selector.register(channel, selectors.EVENT_READ, connection)

    @staticmethod
    def _is_trusted(uid: int) -> bool:
        return uid in (0, os.geteuid())

    def _serve(self, connection: Connection, selector: selectors.BaseSelector) -> None:
        for request in connection.take_requests():
            connection.send(self._answer(request, connection.uid))
        if connection.is_closed:
            selector.unregister(connection.channel)
            connection.channel.close()

    def _answer(self, request: Any, uid: int) -> dict[str, Any]:
        call = request.get("call") if isinstance(request, dict) else None
        act = CALLS.get(str(call))
        try:
            if act is None:
                raise StateError(f"the guard's process does not know the call {call!r:.40}", slug="guard-version")
            if not self._is_trusted(uid):
                if call != "state":
                    raise RightsMissing("the guard is root's", why="only its owner may change it")
                return {"state": self._state_for_others()}
            return act(self, request)
        except BurrowError as problem:
            return {"error": error_document(problem)}
        except (KeyError, ValueError, TypeError, AttributeError) as problem:
            return {
                "error": error_document(ProgramFault("a call to the guard's process is malformed", why=repr(problem)))
            }
        except OSError as problem:
            return {"error": error_document(as_error(problem))}

    def _put(self, request: dict[str, Any]) -> dict[str, Any]:
        self._become(with_share(self._shares, str(request["key"]), Share.of(request["share"])))
        return {}

    def _close(self, request: dict[str, Any]) -> dict[str, Any]:
        key = str(request["key"])
        if key not in self._shares:
            return {"was_there": False}
        self._become({**self._shares, key: self._shares[key].closed(str(request["why"]))})
        return {"was_there": True}

    def _drop(self, request: dict[str, Any]) -> dict[str, Any]:
        self._become({key: one for key, one in self._shares.items() if key != request["key"]})
        return {}

    def _lift(self, request: dict[str, Any]) -> dict[str, Any]:
        before = self._shares
        self._become(without(before, map(str, request["keys"])))
        return {"gone": [one.document() for key, one in before.items() if key not in self._shares and one.held]}

    def _confirm(self, request: dict[str, Any]) -> dict[str, Any]:
        waiting = [share.what for share in self._shares.values() if share.confirm_by]
        self._become({key: replace(one, confirm_by=0.0) for key, one in self._shares.items()})
        return {"confirmed": waiting}

    def _hold_at_start(self, request: dict[str, Any]) -> dict[str, Any]:
        name, share, before = str(request["name"]), request["share"], dict(self._at_start)
        self._at_start.pop(name, None)
        if share is not None:
            self._at_start[name] = Share.of(share)
        try:
            self._write()
        except BaseException:
            self._at_start = before
            raise
        return {}

    def _open_portal(self, request: dict[str, Any]) -> dict[str, Any]:
        self._kernel.open_portal(int(request["user"]), int(request["seconds"]))
        return {}

    def _check(self, request: dict[str, Any]) -> dict[str, Any]:
        """Look now, and restore what differs; whether anything did."""
        return {"restored": self._look()}

    def _retire(self, request: dict[str, Any]) -> dict[str, Any]:
        """End, and leave the tables to the next process."""
        self._ended = True
        return {}

    def _state(self, request: dict[str, Any]) -> dict[str, Any]:
        if request.get("look", True):
            self._look()
        counts = read_counts(self._kernel.channel) if self._kernel.specs else {}
        at_devices = read_counts(self._kernel.channel, NETDEV) if len(self._kernel.specs) > 1 else {}
        portal = read_portal(self._kernel.channel) if self._kernel.specs else {}
        return {
            "version": VERSION,
            "process": os.getpid(),
            "shares": {key: one.document() for key, one in self._shares.items()},
            "measured": self._measured,
            "events": list(self._events),
            "counts": counts,
            "egress_counts": at_devices,
            "portal": list(portal.items()),
        }

    def _state_for_others(self) -> dict[str, Any]:
        """For users who may not change it: whether it is closed, as measured now; not who holds it."""
        if time.monotonic() - self._looked >= LOOK_AGAIN:
            with suppress(BurrowError):
                self._look()
        held = holding(self._shares)
        return {
            "process": os.getpid(),
            "measured": {**self._measured, "differences": ["it differs"] if self._measured.get("differences") else []},
            "held": [str(one) for one in together(held.values()).held],
            "since": min((one.since for one in held.values()), default=""),
        }


CALLS = {
    "put": GuardService._put,
    "close": GuardService._close,
    "drop": GuardService._drop,
    "lift": GuardService._lift,
    "confirm": GuardService._confirm,
    "hold-at-start": GuardService._hold_at_start,
    "open-portal": GuardService._open_portal,
    "check": GuardService._check,
    "retire": GuardService._retire,
    "state": GuardService._state,
}
"""What may be asked of the process. Anything else is an error."""
