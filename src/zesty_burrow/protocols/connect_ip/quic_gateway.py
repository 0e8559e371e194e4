"""The gateway's end of CONNECT-IP over HTTP/3, for stand-ins: many callers behind one UDP port."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

from qh3.quic.configuration import QuicConfiguration
from qh3.quic.connection import QuicConnection

from zesty_burrow.core.net import Datagram, Endpoint
from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller, GatewayConfig
from zesty_burrow.protocols.connect_ip.http.quic_link import CONNECTION_ID, QuicLink
from zesty_burrow.protocols.session import ChannelChanged, Down, Transport, Up
from zesty_burrow.records import dataclass

MOST = 200
LONG, VERSION_1 = 0x80, bytes((0, 0, 0, 1))
LEAST_INITIAL = 1200


@dataclass(frozen=True, slots=True)
class CallerEvent:
    """Something has happened to a caller's tunnel."""

    caller: ConnectIpCaller
    event: Up | ChannelChanged | Down


class QuicGateway:
    """``configuration`` and ``knows_connect`` hold for those who call from then on."""

    local_port = 443

    def __init__(self, config: Callable[[], GatewayConfig], configuration: QuicConfiguration) -> None:
        self.config, self.configuration = config, configuration
        self.knows_connect = True
        self.callers: dict[bytes, ConnectIpCaller] = {}
        self._links: dict[ConnectIpCaller, QuicLink] = {}
        self._events: deque[CallerEvent] = deque()

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take a datagram; by the ID in it, or as the first of a connection (RFC 8999 §5)."""
        identifier = _identifier(data)
        caller = self.callers.get(identifier)
        if caller is None:
            is_first = data[:1] and data[0] & LONG and data[1:5] == VERSION_1 and len(data) >= LEAST_INITIAL
            if not is_first or len(self._links) >= MOST:
                return
            quic = QuicConnection(configuration=self.configuration, original_destination_connection_id=identifier)
            link = QuicLink(
                quic, self.configuration.max_datagram_size, is_client=False, knows_connect=self.knows_connect
            )
            link.peer = source
            caller = ConnectIpCaller(self.config(), link, source, Transport.DATAGRAMS)
            self._links[caller] = link
            self.callers |= {identifier: caller, quic.host_cid: caller}
        caller.receive(data, source, now)
        self.callers |= dict.fromkeys(self._links[caller].take_identifiers(), caller)

    def receive_burst(self, octets: bytes, size: int, source: Endpoint, now: float) -> None:
        """Take many datagrams of one sender, who has one connection as a rule."""
        pieces = [octets[at : at + size] for at in range(0, len(octets), size)]
        caller = self.callers.get(_identifier(pieces[0]))
        if caller is None or len(pieces) < 2 or len({_identifier(piece) for piece in pieces}) > 1:
            for piece in pieces:
                self.receive(piece, source, now)
            return
        caller.receive_burst(octets, size, source, now)
        self.callers |= dict.fromkeys(self._links[caller].take_identifiers(), caller)

    def send(self, now: float) -> list[Datagram]:
        return [Datagram(one.data, 443, one.destination) for caller in list(self._links) for one in caller.send(now)]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        timers = (caller.next_timer() for caller in self._links)
        return min((timer for timer in timers if timer is not None), default=None)

    def handle_timer(self, now: float) -> None:
        for caller in list(self._links):
            caller.handle_timer(now)

    def next_event(self) -> CallerEvent | None:
        """The next event, or None."""
        for caller in list(self._links):
            while (event := caller.next_event()) is not None:
                self._events.append(CallerEvent(caller, event))
                if isinstance(event, Down):
                    self._forget(caller)
                    break
        return self._events.popleft() if self._events else None

    def _forget(self, caller: ConnectIpCaller) -> None:
        del self._links[caller]
        self.callers = {identifier: one for identifier, one in self.callers.items() if one is not caller}

    def forget_all(self, now: float) -> None:
        """As after a restart: all callers are forgotten, and nothing is sent to them."""
        for caller in list(self._links):
            self._events.append(CallerEvent(caller, Down(now, by_peer=False)))
            self._forget(caller)

    def close_all(self, now: float) -> None:
        """End all tunnels from this side."""
        for caller in self._links:
            caller.close(now)


def _identifier(data: bytes) -> bytes:
    """The destination connection ID (RFC 8999 §5.1, §5.2)."""
    if data[:1] and data[0] & LONG:
        return data[6 : 6 + data[5]] if len(data) > 6 else b""
    return data[1 : 1 + CONNECTION_ID]
