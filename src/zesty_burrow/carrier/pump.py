"""Joins a protocol machine to sockets and an event loop: the whole of its I/O."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from typing import TYPE_CHECKING, Generic, Protocol, TypeVar

from zesty_burrow.carrier.channel import MAX_DATAGRAM
from zesty_burrow.core.ike.events import Datagram, Endpoint

if TYPE_CHECKING:
    # It is slow to load, and an attempt does without.
    from zesty_burrow.carrier.port import Burst, UdpPort

BATCH = 64

E_co = TypeVar("E_co", covariant=True)


class Machine(Protocol[E_co]):
    """The calls of a protocol machine that the pump makes; ``receive`` differs and is handed over."""

    def send(self, now: float) -> list[Datagram]:
        """Datagrams to send now."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> None:
        """Time has passed."""

    def next_event(self) -> E_co | None:
        """The next event, or None."""


Bulk = Callable[["Burst", "UdpPort", int, float], Iterable[bytes]]
"""Takes what belongs to the data path out of a burst; the rest comes back."""


class Pump(Generic[E_co]):
    """``receive(data, source, local_port, now)`` gets each datagram; ``on_event`` each event of the machine.

    ``bulk``: the data path, which takes what comes to ``ports`` before that.
    """

    def __init__(
        self,
        machine: Machine[E_co],
        sockets: Mapping[int, socket.socket],
        receive: Callable[[bytes, Endpoint, int, float], None],
        on_event: Callable[[E_co], None],
        ports: Mapping[int, UdpPort] | None = None,
        bulk: Bulk | None = None,
    ) -> None:
        self.machine = machine
        self._sockets = sockets
        self._ports = ports or {}
        self._bulk = bulk
        self._receive = receive
        self._on_event = on_event
        self._loop = asyncio.get_running_loop()
        self._timer: asyncio.TimerHandle | None = None
        for port, channel in sockets.items():
            self._loop.add_reader(channel.fileno(), self._readable, port, channel)

    def now(self) -> float:
        """The loop's clock, seconds."""
        return self._loop.time()

    def close(self) -> None:
        """Stop; the sockets stay open."""
        for channel in self._sockets.values():
            self._loop.remove_reader(channel.fileno())
        if self._timer is not None:
            self._timer.cancel()

    def _readable(self, number: int, channel: socket.socket) -> None:
        now = self._loop.time()
        port, bulk, told = self._ports.get(number), self._bulk, False
        if port is not None and bulk is not None:
            for burst in port.receive():
                for datagram in bulk(burst, port, number, now):
                    told = True
                    self._receive(datagram, burst.source, number, now)
        else:
            for _ in range(BATCH):
                try:
                    data, source = channel.recvfrom(MAX_DATAGRAM)
                except BlockingIOError:
                    break
                except OSError:
                    continue
                told = True
                self._receive(data, (source[0], source[1]), number, now)
        if told:
            self.flush()

    def flush(self) -> None:
        """Send what the machine has, hand its events on, and set the timer anew."""
        moving = True
        while moving:
            moving = False
            for datagram in self.machine.send(self._loop.time()):
                channel = self._sockets.get(datagram.local_port)
                if channel is not None:
                    # An unreachable network is the machine's to notice, by time.
                    with suppress(OSError):
                        channel.sendto(datagram.data, datagram.destination)
            while (event := self.machine.next_event()) is not None:
                self._on_event(event)
                moving = True
        self._arm()

    def _arm(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        due = self.machine.next_timer()
        if due is not None:
            self._timer = self._loop.call_at(due, self._tick)

    def _tick(self) -> None:
        self._timer = None
        self.machine.handle_timer(self._loop.time())
        self.flush()
