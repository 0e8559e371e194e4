"""Joins a session to its sockets and an event loop: the whole of its I/O.

Its owner polls ``events``; ``wake`` is set when there are some, or when something has failed.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Mapping
from contextlib import suppress
from typing import Generic, Protocol, TypeVar, runtime_checkable

from zesty_burrow.carrier.data_path.udp_port import Burst, UdpPort
from zesty_burrow.carrier.network.framed_port import FramedPort
from zesty_burrow.carrier.network.stream_port import StreamPort
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.errors import BurrowError, ProgramFault

E = TypeVar("E")
Port = UdpPort | StreamPort | FramedPort
RECONNECT, LONGEST_WAIT = 0.5, 8.0
"""Seconds before a lost connection is made again; doubled each time."""
E_co = TypeVar("E_co", covariant=True)


class Machine(Protocol[E_co]):
    """The calls of a session, of a gateway's session or of a probe that are made here."""

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        """Take a datagram that came to ``local_port``."""

    def send(self, now: float) -> list[Datagram]:
        """Datagrams to send now."""

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""

    def handle_timer(self, now: float) -> None:
        """Time has passed."""

    def next_event(self) -> E_co | None:
        """The next event, or None."""


@runtime_checkable
class Movable(Protocol):
    """A machine that can go on from another address."""

    def address_changed(self, now: float) -> None:
        """This machine has another address, or another connection, towards the gateway than before."""


class PacketPath(Protocol):
    """Takes the datagrams that carry packets."""

    def inbound(self, burst: Burst) -> tuple[object, list[bytes]]:
        """What of a burst is left for the session is the second of what comes back."""


class SessionIo(Generic[E]):
    """``ports``: the sockets by their local ports; ``path``: what carries packets in datagrams, once there is one.

    A byte stream's octets go to the machine as they come; empty data is the end of the stream.

    ``failure``: an exception that a call of the machine or of the path has raised, for the owner to handle.
    """

    def __init__(self, machine: Machine[E], ports: Mapping[int, Port], wake: asyncio.Event) -> None:
        self.machine = machine
        self._wait = RECONNECT
        self._again: asyncio.TimerHandle | None = None
        self.ports = ports
        self.events: deque[E] = deque()
        self.path: PacketPath | None = None
        self.failure: Exception | None = None
        self._wake = wake
        self._loop = asyncio.get_running_loop()
        self._timer: asyncio.TimerHandle | None = None
        for number, port in ports.items():
            self._loop.add_reader(port.descriptor, self._readable, number, port)

    def now(self) -> float:
        """The event loop's clock, seconds."""
        return self._loop.time()

    def close(self) -> None:
        """Stop, and close the sockets."""
        for timer in (self._timer, self._again):
            if timer is not None:
                timer.cancel()
        for port in self.ports.values():
            if isinstance(port, FramedPort) and port.descriptor >= 0:
                self._loop.remove_reader(port.descriptor)
                port.close()
            elif port.descriptor >= 0:
                self._loop.remove_reader(port.descriptor)
                self._loop.remove_writer(port.descriptor)
                port.channel.close()

    def _fail(self, problem: Exception) -> None:
        self.failure = self.failure or problem
        self._wake.set()

    def _readable(self, number: int, port: Port) -> None:
        if isinstance(port, StreamPort):
            self._stream_readable(number, port)
            return
        try:
            now, received = self._loop.time(), False
            for burst in port.receive():
                others = list(burst.datagrams()) if self.path is None else self.path.inbound(burst)[1]
                for data in others:
                    received = True
                    self.machine.receive(data, burst.source, now, number)
            if received:
                self._wait = RECONNECT
                self.flush()
            if isinstance(port, FramedPort) and port.ended:
                self._lost(number, port)
        except Exception as problem:
            self._fail(problem)

    def _lost(self, number: int, port: FramedPort) -> None:
        """RFC 9329 §6.1: who has connected makes a lost connection again."""
        self._let_go(port)
        self._again = self._loop.call_later(self._wait, self._connect, number, port)
        self._wait = min(self._wait * 2, LONGEST_WAIT)

    def _let_go(self, port: FramedPort) -> None:
        if self._again is not None:
            self._again.cancel()
            self._again = None
        if port.descriptor >= 0:
            self._loop.remove_reader(port.descriptor)
            port.close()

    def _connect(self, number: int, port: FramedPort) -> None:
        self._again = None
        try:
            port.connect()
            self._loop.add_reader(port.descriptor, self._readable, number, port)
        except OSError:
            # No descriptor or no memory at the moment: the session's own limits say how long this is tried.
            self._lost(number, port)
            return
        self.move()

    def move(self) -> None:
        """This machine has another address, or another connection, towards the other end than before."""
        if isinstance(self.machine, Movable):
            self.machine.address_changed(self._loop.time())
            self.flush()

    def connect_anew(self) -> None:
        """A connection from another address of this machine: the present one would wait for it in vain."""
        for number, port in self.ports.items():
            if isinstance(port, FramedPort):
                self._let_go(port)
                self._connect(number, port)

    def _stream_readable(self, number: int, port: StreamPort) -> None:
        try:
            for burst in port.receive():
                self.machine.receive(bytes(burst.view), burst.source, self._loop.time(), number)
            if port.ended:
                self._loop.remove_reader(port.descriptor)
            self.flush()
        except Exception as problem:
            self._fail(problem)

    def _stream_writable(self, port: StreamPort) -> None:
        try:
            port.flush()
        except Exception as problem:
            self._fail(problem)
        if not port.waiting:
            self._loop.remove_writer(port.descriptor)

    def flush(self) -> None:
        """Send what the machine has, collect its events, and set the timer."""
        for datagram in self.machine.send(self._loop.time()):
            port = self.ports.get(datagram.local_port)
            if port is not None:
                # An unreachable network is the machine's to notice, by time.
                with suppress(OSError):
                    port.send(datagram.data, datagram.destination)
                if isinstance(port, StreamPort) and port.waiting:
                    self._loop.add_writer(port.descriptor, self._stream_writable, port)
        while (event := self.machine.next_event()) is not None:
            self.events.append(event)
        if self.events:
            self._wake.set()
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        due = self.machine.next_timer()
        if due is not None:
            self._timer = self._loop.call_at(due, self.handle_timer)

    def handle_timer(self) -> None:
        """Let the machine look at the time, and at what its channel has carried."""
        try:
            self.machine.handle_timer(self._loop.time())
            self.flush()
        except Exception as problem:
            self._fail(problem)

    def take_events(self) -> list[E]:
        """The events since the last call, in their order; raises what has failed."""
        if self.failure is not None:
            failure, self.failure = self.failure, None
            if isinstance(failure, BurrowError):
                raise failure
            why = f"{type(failure).__name__}: {failure}"
            raise ProgramFault("the program has an error", why=why) from failure
        found = list(self.events)
        self.events.clear()
        return found
