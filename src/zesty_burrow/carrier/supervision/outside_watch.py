"""A packet watch for as long as a tunnel is carried: what leaves by the outer devices and nothing explains.

It reads when there is something to read, and looks now and then whether there are other devices. Where it cannot be,
the status says why; the tunnel does not depend on it.
"""

from __future__ import annotations

import asyncio
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import BurrowError

if TYPE_CHECKING:
    from zesty_burrow.core.net import Network
    from zesty_burrow.core.ways_out.capture_filter import WatchedPackets
    from zesty_burrow.host.packet_watch.watch import PacketWatch, WatchedDevice

LOOK_EACH = 5.0
"""Seconds between two looks at the devices."""
SHOWN = 8


class OutsideWatch:
    """``begin`` once the tunnel is up, ``stop`` at its end. ``guard``: the path of the guard's record."""

    def __init__(self, guard: Path) -> None:
        self._guard = guard
        self._watch: PacketWatch | None = None
        self._devices: tuple[WatchedDevice, ...] = ()
        # Of the watches that have ended: the sums, and the last rows alone, however often the devices change.
        self._packets = self._lost = 0
        self._rows: list[dict[str, Any]] = []
        self._timer: asyncio.TimerHandle | None = None
        self._belonging: tuple[Network, ...] = ()
        self._name = ""
        self._since = ""
        self._blind = ""
        self._stale = False
        # Seconds in which nobody watched, and since when nobody does.
        self._unwatched, self._gap = 0.0, 0.0

    def begin(self, device: str, belonging: tuple[Network, ...]) -> None:
        """``device``: the tunnel's; ``belonging``: what belongs in it. Also for a tunnel that has become another."""
        self._name, self._belonging, self._stale = device, belonging, True
        loop = asyncio.get_running_loop()
        if self._timer is not None:
            self._timer.cancel()
        # Not while the tunnel is being set up: what this needs is loaded a moment later.
        self._timer = loop.call_later(0.1, self._look)

    def stop(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        self._close()

    def _look(self) -> None:
        """Watch the devices that are there now."""
        self._timer = asyncio.get_running_loop().call_later(LOOK_EACH, self._look)
        from zesty_burrow.host.packet_watch.watch import PacketWatch

        try:
            watched, devices = self._now()
            if self._watch is not None and devices == self._devices and not self._stale:
                return
            self._close()
            self._stale = False
            watch = PacketWatch(watched, devices, lambda: self._now()[0])
            watch.open()
        except (BurrowError, OSError) as problem:
            self._blind = (problem.why or problem.what) if isinstance(problem, BurrowError) else str(problem)
            return
        self._watch, self._devices, self._blind = watch, devices, ""
        if self._gap:
            self._unwatched, self._gap = self._unwatched + time.monotonic() - self._gap, 0.0
        self._since = self._since or watch.result().since
        for channel in watch.channels:
            asyncio.get_running_loop().add_reader(channel.fileno(), watch.read)

    def _now(self) -> tuple[WatchedPackets, tuple[WatchedDevice, ...]]:
        """By what all tunnels of this machine let through at this moment."""
        from zesty_burrow.core.ways_out.capture_filter import WatchedPackets
        from zesty_burrow.host.guard.guard import Guard
        from zesty_burrow.host.guard.plan import together
        from zesty_burrow.host.packet_watch.allowances import look_beside

        share = together(Guard(self._guard).shares().values())
        beside = look_beside(share, (), (self._name, *share.devices))
        return WatchedPackets(self._belonging, beside.allowed), beside.outer

    def _close(self) -> None:
        if self._watch is not None:
            for channel in self._watch.channels:
                # At the very end there is no loop any more.
                with suppress(ValueError, OSError, RuntimeError):
                    asyncio.get_running_loop().remove_reader(channel.fileno())
            ended = self._watch.result().document()
            self._packets += ended["packets"]
            self._lost += ended["lost"]
            self._rows = [*self._rows, *ended["unexplained"]][-SHOWN:]
            self._watch.close()
            self._watch, self._gap = None, time.monotonic()

    def document(self) -> dict[str, Any]:
        """``since``: ISO 8601, empty before it has begun; ``unwatched``: for how many seconds of that time nobody
        watched; ``packets``: how many nothing explains; ``lost``: captures that the kernel dropped; ``seen``: in words;
        ``blind``: why it cannot watch.
        """
        now: dict[str, Any] = (
            self._watch.result().document() if self._watch is not None else {"packets": 0, "lost": 0, "unexplained": ()}
        )
        rows = [*self._rows, *now["unexplained"]]
        return {
            "since": self._since,
            "unwatched": round(self._unwatched + (time.monotonic() - self._gap if self._gap else 0.0), 1),
            "packets": self._packets + now["packets"],
            "lost": self._lost + now["lost"],
            "seen": [_words(row) for row in rows[-SHOWN:]],
            "devices": [device.name for device in self._devices],
            "blind": self._blind,
        }


def _words(row: dict[str, Any]) -> str:
    from zesty_burrow.core.ways_out.seen import UnexplainedPackets

    return UnexplainedPackets(**row).words
