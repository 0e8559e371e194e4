"""Datagrams by a SOCKS 5 proxy (RFC 1928 §7), in the calls that a UDP socket of a tunnel has.

The proxy is asked by a TCP connection, and passes datagrams on for as long as that lasts; a lost one is made again.
"""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Sequence
from contextlib import suppress

from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import Burst, TooLong, UdpPort
from zesty_burrow.carrier.ports.udp_socket import mark_socket, udp_socket
from zesty_burrow.core.net import Endpoint
from zesty_burrow.core.proxy import ProxyRoute, header_size, not_reached, relay_of, unwrap_datagram, wrap_datagram

HELD = 32
"""Datagrams that wait for the proxy's answer at most; later ones are lost, as on any path."""
FIRST_WAIT, LONGEST_WAIT = 0.5, 8.0
"""Seconds before a lost connection is made again; doubled each time."""
DISABLED = frozenset({"socket-send", "socket-receive"})
"""Each datagram has a header of its own, so that the kernel neither joins nor splits them."""


class RelayedPort:
    """Asks the proxy at once. ``marked``: as a tunnel's own, for the guard.

    ``on_failure`` takes an error that asking again cannot help, as a sign-in that is refused; ``on_anew`` is called
    when the proxy passes datagrams on again, which may come from another port of it than before.
    ``splits`` and ``joins``: see :class:`UdpPort`.
    """

    splits = joins = is_full = False

    def __init__(self, route: ProxyRoute, *, marked: bool = False) -> None:
        self.on_failure: Callable[[Exception], None] | None = None
        self.on_anew: Callable[[], None] | None = None
        self.more_headers = header_size(route.target[0])
        self._route, self._loop = route, asyncio.get_running_loop()
        self._proxy = route.association()
        self._relay: Endpoint | None = None
        self._held: list[tuple[bytes, Endpoint]] = []
        self._was_open, self._wait = False, FIRST_WAIT
        self._again: asyncio.TimerHandle | None = None
        channel = udp_socket(socket.AF_INET6 if ":" in route.proxy[0] else socket.AF_INET)
        try:
            if marked:
                mark_socket(channel)
            self._udp = UdpPort(channel, DISABLED)
            self._control = StreamPort(route.proxy, marked=marked)
        except BaseException:
            channel.close()
            raise
        self._begin()

    @property
    def descriptor(self) -> int:
        """The UDP socket's; -1 once it is closed."""
        return self._udp.descriptor

    @property
    def silent_proxy(self) -> str:
        """The proxy where it has not passed datagrams on so far; empty once it has."""
        return "" if self._was_open else self._route.where

    @property
    def too_long(self) -> TooLong | None:
        """See :meth:`treat_too_long`."""
        return self._udp.too_long

    def treat_too_long(self, how: TooLong) -> None:
        """What becomes of datagrams that are longer than messages from the network say that the path takes."""
        self._udp.treat_too_long(how)

    def close(self) -> None:
        """Close both sockets."""
        self._let_go()
        self._udp.close()

    def ask_anew(self) -> None:
        """From another address of this machine: the present connection would wait for it in vain."""
        self._let_go()
        self._connect()

    def receive(self) -> list[Burst]:
        """What has come by the proxy, each datagram a burst of its own; what comes from elsewhere is skipped."""
        bursts: list[Burst] = []
        for burst in self._udp.receive():
            if burst.source != self._relay:
                continue
            for data in burst.datagrams():
                if (one := unwrap_datagram(data)) is not None:
                    source, inner = one
                    bursts.append(
                        Burst(memoryview(inner), 0, len(inner), max(len(inner), 1), source, burst.traffic_class)
                    )
        return bursts

    def send(self, data: bytes, to: Endpoint, traffic_class: int = 0) -> None:
        """One datagram, or as one that waits for the proxy's answer. Raises ``OSError``."""
        if self._relay is not None:
            self._udp.send(wrap_datagram(data, to), self._relay, traffic_class)
        elif len(self._held) < HELD:
            self._held.append((data, to))

    def send_many(self, datagrams: Sequence[bytes], to: Endpoint) -> None:
        """Many, one by one; what the system does not take is lost, as on any path."""
        for datagram in datagrams:
            with suppress(OSError):
                self.send(datagram, to)

    def _begin(self) -> None:
        self._proxy, self._relay = self._route.association(), None
        self._loop.add_reader(self._control.descriptor, self._on_control)
        self._control.send(self._proxy.hello(), self._route.proxy)

    def _connect(self) -> None:
        self._again = None
        try:
            self._control.connect()
        except OSError:
            # No descriptor or no memory at the moment: the session's own limits say how long this is tried.
            self._lost()
        else:
            self._begin()

    def _let_go(self) -> None:
        if self._again is not None:
            self._again.cancel()
            self._again = None
        if self._control.descriptor >= 0:
            self._loop.remove_reader(self._control.descriptor)
            self._control.close()
        self._relay = None

    def _lost(self) -> None:
        """RFC 1928 §7: what was asked for ends with the connection by which it was."""
        self._let_go()
        self._again = self._loop.call_later(self._wait, self._connect)
        self._wait = min(self._wait * 2, LONGEST_WAIT)

    def _on_control(self) -> None:
        try:
            data = self._control.read()
            if data == b"" and not self._was_open:
                raise not_reached(self._route.where)
            if data == b"":
                self._lost()
            elif data and not self._proxy.is_open:
                said, _ = self._proxy.feed(data)
                self._control.send(said, self._route.proxy)
                if self._proxy.is_open:
                    self._opened()
        except Exception as problem:
            self._let_go()
            if self.on_failure is None:
                raise
            self.on_failure(problem)

    def _opened(self) -> None:
        self._relay = relay_of(self._route.proxy, self._route.where, self._proxy.bound)
        self._wait = FIRST_WAIT
        held, self._held = self._held, []
        for data, to in held:
            with suppress(OSError):
                self.send(data, to)
        if self._was_open and self.on_anew is not None:
            self.on_anew()
        self._was_open = True
