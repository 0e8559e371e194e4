"""Callers of a gateway by CONNECT-IP over TCP: a connection each, with its own session and tunnel."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Protocol

from cryptography import x509
from OpenSSL import SSL

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.tunnel import QueuedTunnel
from zesty_burrow.carrier.data_path.udp_port import Burst
from zesty_burrow.carrier.network.stream_port import StreamPort
from zesty_burrow.carrier.session_io import SessionIo
from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.crypto.tls_engine import TlsOptions, make_context
from zesty_burrow.core.net import AddressRange, Endpoint
from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller, GatewayConfig
from zesty_burrow.protocols.connect_ip.http.tls_link import H2, HTTP1, TlsLink
from zesty_burrow.protocols.session import ChannelChanged, Down, QueuedChannel, Transport, Up

PORT = 443
MOST = 200
"""Connections at a time."""


class Owner(Protocol):
    """The gateway's host."""

    faults: frozenset[str]

    @property
    def data_path(self) -> DataPath | None:
        """Its tunnel device's; None where it has none."""

    def http_config(self) -> GatewayConfig:
        """Whom it lets in at present."""

    def server_keys(self) -> tuple[PrivateKey, tuple[x509.Certificate, ...]]:
        """Its key and certificates at present."""

    def began(self, caller: ConnectIpCaller, tunnel: QueuedTunnel, remote: tuple[AddressRange, ...]) -> None:
        """A caller's tunnel is up."""

    def ended(self, caller: ConnectIpCaller) -> None:
        """A caller's tunnel is over."""


@dataclass(slots=True)
class _Connection:
    caller: ConnectIpCaller
    io: SessionIo[Up | ChannelChanged | Down]


@dataclass(slots=True)
class HttpCallers:
    """Accepts connections at ``endpoint`` for ``owner``; ``wake`` is set when something has happened to one of them."""

    owner: Owner
    endpoint: Endpoint
    family: int
    wake: asyncio.Event
    connections: dict[Endpoint, _Connection] = field(default_factory=dict)
    _context: SSL.Context | None = None
    _listener: socket.socket | None = None

    def start(self) -> None:
        """Listen."""
        listener = self._listener = socket.socket(
            self.family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC
        )
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if self.family == socket.AF_INET6:
            listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        listener.bind(self.endpoint)
        listener.listen(64)
        asyncio.get_running_loop().add_reader(listener.fileno(), self._accept)

    def renew(self) -> None:
        """The gateway's faults, and with them its certificate, are other ones from now on."""
        key, chain = self.owner.server_keys()
        protocols = (HTTP1,) if "no-http2" in self.owner.faults else (H2, HTTP1)
        self._context = make_context(
            TlsOptions(protocols=protocols), key, chain, is_client=False, wants_certificate=True
        )

    def _accept(self) -> None:
        if self._listener is None or self._context is None:
            return
        with suppress(OSError):
            channel, address = self._listener.accept()
            if len(self.connections) >= MOST or "silent" in self.owner.faults:
                channel.close()
                return
            peer = (address[0], address[1])
            link = TlsLink.server(self._context, knows_connect="no-extended-connect" not in self.owner.faults)
            caller = ConnectIpCaller(self.owner.http_config(), link, peer, Transport.STREAM)
            io: SessionIo[Up | ChannelChanged | Down] = SessionIo(
                caller, {caller.local_port: StreamPort(peer, accepted=channel)}, self.wake
            )
            io.path = _Path(self)
            self.connections[peer] = _Connection(caller, io)

    def look(self) -> None:
        """See what has happened to callers. To be called when ``wake`` was set."""
        for peer, connection in list(self.connections.items()):
            for event in connection.io.take_events():
                if isinstance(event, Up) and isinstance(event.channel, QueuedChannel):
                    tunnel = QueuedTunnel(event.channel, connection.io, peer, waits=False)
                    self.owner.began(connection.caller, tunnel, event.remote)
                elif isinstance(event, Down):
                    self._end(peer)
                    break

    def _end(self, peer: Endpoint) -> None:
        connection = self.connections.pop(peer)
        connection.io.flush()
        connection.io.close()
        self.owner.ended(connection.caller)

    def drop_all(self) -> None:
        """As a middle box does that resets connections, or a restart; callers connect again."""
        for peer in list(self.connections):
            self._end(peer)

    def end_all(self, now: Callable[[], float]) -> None:
        """End all tunnels from this side."""
        for connection in list(self.connections.values()):
            connection.caller.close(now())
            connection.io.flush()
        self.look()


@dataclass(frozen=True, slots=True)
class _Path:
    """A caller's packets go to the gateway's one data path."""

    callers: HttpCallers

    def inbound(self, burst: Burst) -> tuple[None, list[bytes]]:
        """All of a burst is the session's."""
        return None, [*burst.datagrams()]

    def go_on(self) -> None:
        """Take what has come, and send what the kernel answers at once."""
        path = self.callers.owner.data_path
        if path is not None and path.plain.receive_queued():
            path.outbound_ready()
