"""Joins a session to its sockets and an event loop: the whole of its I/O.

Its owner polls ``events``; ``wake`` is set when there are some, or when something has failed.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Mapping
from contextlib import suppress
from typing import Generic, Protocol, TypeVar, runtime_checkable

from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.gre_port import GrePort
from zesty_burrow.carrier.ports.relayed_port import RelayedPort
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.errors import BurrowError, ProgramFault

E = TypeVar("E")
Port = UdpPort | StreamPort | FramedPort | GrePort | RelayedPort
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


@runtime_checkable
class Rekeyable(Protocol):
    """A machine that can agree on new keys when it is asked to."""

    def rekey(self, now: float) -> None:
        """New keys for the packets of the tunnel, now."""


@runtime_checkable
class Reconnecting(Protocol):
    """A machine over a byte stream that goes on after a loss, by a new connection."""

    @property
    def wants_connection(self) -> bool:
        """Whether the machine wants a new connection now."""


@runtime_checkable
class Blocking(Protocol):
    """A machine that may be unable to take packets for a while."""

    @property
    def is_blocked(self) -> bool:
        """Whether packets would only wait."""


@runtime_checkable
class Receiving(Protocol):
    """A machine some of whose messages come in the datagrams that carry packets."""

    @property
    def has_received(self) -> bool:
        """Whether some wait for it."""


@runtime_checkable
class BurstMachine(Protocol):
    """A machine that takes many datagrams of one sender at once; all of them are its own."""

    def receive_burst(self, octets: bytes, size: int, source: Endpoint, now: float) -> None:
        """Datagrams of ``size`` octets one behind the other, of which the last may be shorter."""


class PacketPath(Protocol):
    """Takes the datagrams that carry packets, or the packets that the session has received."""

    @property
    def takes_no_datagrams(self) -> bool:
        """Whether all datagrams are the session's."""

    def inbound(self, burst: Burst) -> tuple[object, list[bytes]]:
        """What of a burst is left for the session is the second of what comes back."""

    def go_on(self) -> None:
        """The session has looked at its connection: it may have received packets, or take some again."""


class SessionIo(Generic[E]):
    """``ports``: the sockets by their local ports; ``path``: what carries packets in datagrams, once there is one.

    A byte stream's octets go to the machine as they come; empty data is the end of the stream. Such a connection is
    made again where the machine wants it, and a framed one always.

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
        self._reconnecting = machine if isinstance(machine, Reconnecting) else None
        self._bursts = machine if isinstance(machine, BurstMachine) else None
        self._blocking = machine if isinstance(machine, Blocking) else None
        self._receiving = machine if isinstance(machine, Receiving) else None
        self._streams = [port for port in ports.values() if isinstance(port, StreamPort)]
        self._loop = asyncio.get_running_loop()
        self._timer: asyncio.TimerHandle | None = None
        for number, port in ports.items():
            self._loop.add_reader(port.descriptor, self._readable, number, port)
            if isinstance(port, StreamPort):
                port.on_room = self._on_room
            elif isinstance(port, RelayedPort):
                port.on_failure, port.on_anew = self._fail, self.move

    def now(self) -> float:
        """The event loop's clock, seconds."""
        return self._loop.time()

    def close(self) -> None:
        """Stop, and close the sockets."""
        for timer in (self._timer, self._again):
            if timer is not None:
                timer.cancel()
        for port in self.ports.values():
            if port.descriptor >= 0:
                self._loop.remove_reader(port.descriptor)
                port.close()

    def _fail(self, problem: Exception) -> None:
        self.failure = self.failure or problem
        self._wake.set()

    def _readable(self, number: int, port: Port) -> None:
        try:
            now, received = self._loop.time(), False
            for burst in port.receive():
                if self._bursts is not None and (self.path is None or self.path.takes_no_datagrams):
                    received = True
                    self._bursts.receive_burst(bytes(burst.view[burst.start : burst.start + burst.total]), burst.size,
                                               burst.source, now)  # fmt: skip
                    continue
                for data in self._left_of(burst, port):
                    received = True
                    self.machine.receive(data, burst.source, now, number)
            if received or (self._receiving is not None and self._receiving.has_received):
                self._turn()
            if not isinstance(port, StreamPort):
                return
            if not port.ended:
                self._wait = RECONNECT if received else self._wait
            elif isinstance(port, FramedPort):
                self._lost(number, port)
            elif self._again is None and port.descriptor >= 0:
                # Nothing more comes, and the machine does not want another connection.
                self._loop.remove_reader(port.descriptor)
        except Exception as problem:
            self._fail(problem)

    def _left_of(self, burst: Burst, port: Port) -> list[bytes]:
        """What of a burst is the machine's; of a byte stream everything is, and its end too."""
        if isinstance(port, StreamPort) and not isinstance(port, FramedPort):
            return [bytes(burst.view)]
        return list(burst.datagrams()) if self.path is None else self.path.inbound(burst)[1]

    @property
    def is_blocked(self) -> bool:
        """Whether packets that travel in the session's messages would only wait."""
        for port in self._streams:
            if port.is_full:
                return True
        return self._blocking is not None and self._blocking.is_blocked

    def _on_room(self) -> None:
        try:
            self._turn()
        except Exception as problem:
            self._fail(problem)

    def _lost(self, number: int, port: StreamPort) -> None:
        """RFC 9329 §6.1: who has connected makes a lost connection again."""
        self._let_go(port)
        self._again = self._loop.call_later(self._wait, self._connect, number, port)
        self._wait = min(self._wait * 2, LONGEST_WAIT)

    def _let_go(self, port: StreamPort) -> None:
        if self._again is not None:
            self._again.cancel()
            self._again = None
        if port.descriptor >= 0:
            self._loop.remove_reader(port.descriptor)
            port.close()

    def _connect(self, number: int, port: StreamPort) -> None:
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
            self._turn()

    def rekey(self) -> bool:
        """Ask for new keys; whether the protocol can."""
        if not isinstance(self.machine, Rekeyable):
            return False
        self.machine.rekey(self._loop.time())
        self._turn()
        return True

    def connect_anew(self) -> None:
        """Connections from another address of this machine: the present ones would wait for it in vain."""
        for number, port in self.ports.items():
            if isinstance(port, RelayedPort):
                port.ask_anew()
            elif isinstance(port, StreamPort):
                self._let_go(port)
                self._connect(number, port)

    def flush(self) -> None:
        """Send what the machine has, collect its events, and set the timer. Nothing is received by it."""
        machine = self.machine
        for port in self._streams:
            if port.is_full:
                # What is made for a full connection would only be held here.
                break
        else:
            if going := machine.send(self._loop.time()):
                self._send(going)
        while (event := machine.next_event()) is not None:
            self.events.append(event)
        if self.events:
            self._wake.set()
        due = machine.next_timer()
        if self._timer is not None:
            if self._timer.when() == due:
                return
            self._timer.cancel()
            self._timer = None
        if due is not None:
            self._timer = self._loop.call_at(due, self.handle_timer)

    def _turn(self) -> None:
        """The machine has heard something, or time has passed: send what it has to say, and hand on what it has."""
        self.flush()
        if self.path is not None:
            self.path.go_on()
        if self._again is None and self._reconnecting is not None and self._reconnecting.wants_connection:
            # The machine has given its connection up: another one is made.
            for number, port in self.ports.items():
                if isinstance(port, StreamPort):
                    self._lost(number, port)

    def _send(self, datagrams: list[Datagram]) -> None:
        """An unreachable network is the machine's to notice, by time."""
        begin = 0
        while begin < len(datagrams):
            first, end = datagrams[begin], begin + 1
            port = self.ports.get(first.local_port)
            if isinstance(port, UdpPort):
                while (
                    end < len(datagrams)
                    and datagrams[end].destination == first.destination
                    and (datagrams[end].local_port == first.local_port)
                ):
                    end += 1
                port.send_many([datagram.data for datagram in datagrams[begin:end]], first.destination)
            elif port is not None:
                with suppress(OSError):
                    port.send(first.data, first.destination)
            begin = end

    def handle_timer(self) -> None:
        """Let the machine look at the time, and at what its channel has carried."""
        try:
            self._timer = None
            self.machine.handle_timer(self._loop.time())
            self._turn()
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
        events = list(self.events)
        self.events.clear()
        return events
