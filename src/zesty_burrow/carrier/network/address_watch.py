"""Notices that this machine's packets to the gateway leave from another address than before."""

from __future__ import annotations

import asyncio
import socket

from zesty_burrow.host.address_changes import drain, open_watch, source_towards

SETTLE = 0.3
"""Seconds after a change of the network until it is looked at: many small changes belong to one."""


class AddressWatch:
    """``wake`` is set when the network has changed and has settled; then :meth:`take_move` says what that means."""

    def __init__(self, wake: asyncio.Event) -> None:
        self._wake = wake
        self._source = ""
        self._away = False
        self._changed = False
        self._settling: asyncio.TimerHandle | None = None
        self._watch: socket.socket | None = None

    def start(self) -> None:
        """Watch the network's changes."""
        watch = self._watch = open_watch()
        asyncio.get_running_loop().add_reader(watch.fileno(), self._readable, watch)

    def stop(self) -> None:
        """Watch no more."""
        if self._settling is not None:
            self._settling.cancel()
        if self._watch is not None:
            asyncio.get_running_loop().remove_reader(self._watch.fileno())
            self._watch.close()
            self._watch = None

    def note(self, peer: str) -> None:
        """The tunnel to this address was set up here."""
        self._source = source_towards(peer)

    def take_move(self, peer: str) -> bool:
        """Whether this machine has moved since the last time, as seen from the route to ``peer``."""
        if not self._changed or not peer:
            return False
        self._changed = False
        source = source_towards(peer)
        # Also when the route was lost and is back: an address translator may have forgotten us.
        moved = bool(source) and (self._away or (bool(self._source) and source != self._source))
        self._away = not source
        self._source = source or self._source
        return moved

    def _readable(self, watch: socket.socket) -> None:
        drain(watch)
        if self._settling is None:
            self._settling = asyncio.get_running_loop().call_later(SETTLE, self._settled)

    def _settled(self) -> None:
        self._settling = None
        self._changed = True
        self._wake.set()
