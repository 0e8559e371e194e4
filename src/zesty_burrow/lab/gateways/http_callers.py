"""Callers of a gateway by CONNECT-IP: over TCP a connection each, over UDP all by one socket."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from contextlib import suppress
from typing import Protocol

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from OpenSSL import SSL
from qh3.quic.configuration import QuicConfiguration

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.tunnel import QueuedTunnel
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.carrier.ports.udp_socket import udp_socket
from zesty_burrow.carrier.session_io import SessionIo
from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.crypto.tls_engine import TlsOptions, make_context
from zesty_burrow.core.net import AddressRange, Datagram, Endpoint
from zesty_burrow.protocols.connect_ip.config import UDP_PAYLOAD
from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller, GatewayConfig
from zesty_burrow.protocols.connect_ip.http.quic_link import quic_configuration
from zesty_burrow.protocols.connect_ip.http.tls_link import H2, HTTP1, TlsLink
from zesty_burrow.protocols.connect_ip.quic_gateway import CallerEvent, QuicGateway
from zesty_burrow.protocols.connect_ip.settings import CIPHER_DEFAULTS
from zesty_burrow.protocols.session import ChannelChanged, Down, QueuedChannel, Transport, Up
from zesty_burrow.records import dataclass, field

PORT = 443
MOST = 200
"""Connections at a time."""


class HttpCallersOwner(Protocol):
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

    def behind(self, caller: ConnectIpCaller) -> None:
        """The networks behind a caller are other ones."""

    def ended(self, caller: ConnectIpCaller) -> None:
        """A caller's tunnel is over."""


DEAF = frozenset({"silent", "old-tls"})
"""Faults of a gateway that answers nothing by QUIC (RFC 9001 §4.2: TLS 1.3 at least)."""


@dataclass(slots=True)
class _Connection:
    caller: ConnectIpCaller
    io: SessionIo[Up | ChannelChanged | Down]


@dataclass(slots=True)
class HttpCallers:
    """Accepts connections at ``endpoint`` for ``owner``; ``wake`` is set when something has happened to one of them."""

    owner: HttpCallersOwner
    endpoint: Endpoint
    family: socket.AddressFamily
    wake: asyncio.Event
    connections: dict[Endpoint, _Connection] = field(default_factory=dict)
    _quic: QuicGateway | None = None
    _quic_io: SessionIo[CallerEvent] | None = None
    _context: SSL.Context | None = None
    _listener: socket.socket | None = None

    def start(self) -> None:
        listener = self._listener = socket.socket(
            self.family, socket.SOCK_STREAM | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC
        )
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if self.family == socket.AF_INET6:
            listener.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        listener.bind(self.endpoint)
        listener.listen(64)
        asyncio.get_running_loop().add_reader(listener.fileno(), self._accept)
        self.renew()
        self._quic = QuicGateway(self.owner.http_config, self._quic_configuration())
        port = UdpPort(udp_socket(self.family, self.endpoint))
        self._quic_io = SessionIo(_Audible(self._quic, self.owner), {self._quic.local_port: port}, self.wake)
        self._quic_io.path = _Path(self)

    def _quic_configuration(self) -> QuicConfiguration:
        key, chain = self.owner.server_keys()
        pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        shown = b"".join(one.public_bytes(Encoding.PEM) for one in chain)
        made = quic_configuration(UDP_PAYLOAD, pem, shown, is_client=False, cipher_suites=CIPHER_DEFAULTS)
        if "no-datagrams" in self.owner.faults:
            made.max_datagram_frame_size = None
        return made

    def renew(self) -> None:
        """The gateway's faults, and with them its certificate, are other ones from now on."""
        key, chain = self.owner.server_keys()
        protocols = (HTTP1,) if "no-http2" in self.owner.faults else (H2, HTTP1)
        if self._quic is not None:
            self._quic.configuration = self._quic_configuration()
            self._quic.knows_connect = "no-extended-connect" not in self.owner.faults
        self._context = make_context(
            TlsOptions(protocols=protocols), key, chain, is_client=False, wants_certificate=True
        )
        if "old-tls" in self.owner.faults:
            self._context.set_min_proto_version(SSL.TLS1_2_VERSION)
            self._context.set_max_proto_version(SSL.TLS1_2_VERSION)

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
                elif isinstance(event, ChannelChanged):
                    self.owner.behind(connection.caller)
                elif isinstance(event, Down):
                    self._end(peer)
                    break
        for one in self._quic_io.take_events() if self._quic_io is not None else ():
            if isinstance(one.event, Up) and isinstance(one.event.channel, QueuedChannel) and self._quic_io is not None:
                sender = _Sender(one.caller, self._quic_io)
                tunnel = QueuedTunnel(one.event.channel, sender, one.caller.peer, waits=False)
                self.owner.began(one.caller, tunnel, one.event.remote)
            elif isinstance(one.event, ChannelChanged):
                self.owner.behind(one.caller)
            elif isinstance(one.event, Down):
                self.owner.ended(one.caller)

    def _end(self, peer: Endpoint) -> None:
        connection = self.connections.pop(peer)
        connection.io.flush()
        connection.io.close()
        self.owner.ended(connection.caller)

    def drop_all(self) -> None:
        """As a middle box does that resets connections, or a restart; callers connect again."""
        for peer in list(self.connections):
            self._end(peer)
        if self._quic is not None and self._quic_io is not None:
            self._quic.forget_all(self._quic_io.now())
            self._quic_io.flush()
            self.look()

    def end_all(self, now: Callable[[], float]) -> None:
        """End all tunnels from this side."""
        for connection in list(self.connections.values()):
            connection.caller.close(now())
            connection.io.flush()
        if self._quic is not None and self._quic_io is not None:
            self._quic.close_all(now())
            self._quic_io.flush()
        self.look()


@dataclass(frozen=True, slots=True)
class _Sender:
    """One caller of those that share a socket."""

    caller: ConnectIpCaller
    io: SessionIo[CallerEvent]

    @property
    def is_blocked(self) -> bool:
        """Whether packets for it would only wait."""
        return self.caller.is_blocked

    def flush(self) -> None:
        """Send what all of them have."""
        self.io.flush()


@dataclass(frozen=True, slots=True)
class _Audible:
    """The machine of all callers over UDP, which hears nothing while the gateway is to be silent, or knows no QUIC."""

    quic: QuicGateway
    owner: HttpCallersOwner

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int) -> None:
        if self.owner.faults.isdisjoint(DEAF):
            self.quic.receive(data, source, now)

    def receive_burst(self, octets: bytes, size: int, source: Endpoint, now: float) -> None:
        """Take many datagrams of one sender."""
        if self.owner.faults.isdisjoint(DEAF):
            self.quic.receive_burst(octets, size, source, now)

    def send(self, now: float) -> list[Datagram]:
        return self.quic.send(now)

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return self.quic.next_timer()

    def handle_timer(self, now: float) -> None:
        self.quic.handle_timer(now)

    def next_event(self) -> CallerEvent | None:
        """The next event, or None."""
        return self.quic.next_event()


@dataclass(frozen=True, slots=True)
class _Path:
    """A caller's packets go to the gateway's one data path."""

    callers: HttpCallers

    @property
    def takes_no_datagrams(self) -> bool:
        """All are the sessions'."""
        return True

    def inbound(self, burst: Burst) -> tuple[None, list[bytes]]:
        """All of a burst is the session's."""
        return None, [*burst.datagrams()]

    def go_on(self) -> None:
        """Take what has come, and send what the kernel answers at once."""
        path = self.callers.owner.data_path
        if path is not None and path.plain.receive_queued():
            path.outbound_ready()
