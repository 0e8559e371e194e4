"""Notices that this machine has moved: that its packets to the gateway leave from another address than before."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable

from zesty_burrow.host.movement import drain, open_watch, source_towards

SETTLE = 0.3
"""Seconds after a change of the network until it is looked at."""


class Whereabouts:
    """``peer`` tells the gateway's address, empty where there is none; ``moved`` hears of each move."""

    def __init__(self, peer: Callable[[], str], moved: Callable[[], None]) -> None:
        self._peer, self._moved = peer, moved
        self._source = ""
        self._away = False
        self._settling: asyncio.TimerHandle | None = None
        self._watch: socket.socket | None = None

    def start(self) -> None:
        """Watch the network's changes."""
        watch = self._watch = open_watch()
        asyncio.get_running_loop().add_reader(watch.fileno(), self._changed, watch)

    def stop(self) -> None:
        """Watch no more."""
        if self._watch is not None:
            asyncio.get_running_loop().remove_reader(self._watch.fileno())
            self._watch.close()
            self._watch = None

    def note(self) -> None:
        """Here the tunnel was set up."""
        self._source = source_towards(self._peer())

    def _changed(self, watch: socket.socket) -> None:
        """Many small changes belong to one: look once they have settled."""
        drain(watch)
        if self._settling is None:
            self._settling = asyncio.get_running_loop().call_later(SETTLE, self._look)

    def _look(self) -> None:
        self._settling = None
        peer = self._peer()
        if not peer:
            return
        source = source_towards(peer)
        # Also when the way was lost and is back: an address translator may have forgotten us.
        moved = bool(source) and (self._away or (bool(self._source) and source != self._source))
        self._away = not source
        self._source = source or self._source
        if moved:
            self._moved()
