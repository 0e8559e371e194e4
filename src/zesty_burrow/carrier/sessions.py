"""Opens sessions: for the carrier, for attempts and for probes alike."""

from __future__ import annotations

import asyncio
import os
import socket
from contextlib import suppress
from datetime import UTC, datetime

from zesty_burrow.carrier.data_path.path_size import PathSize
from zesty_burrow.carrier.data_path.tunnel import PathTunnel, QueuedTunnel, Tunnel
from zesty_burrow.carrier.network.addresses import outer_address
from zesty_burrow.carrier.ports.framed_port import FramedPort
from zesty_burrow.carrier.ports.gre_port import GrePort
from zesty_burrow.carrier.ports.relayed_port import RelayedPort
from zesty_burrow.carrier.ports.stream_port import StreamPort
from zesty_burrow.carrier.ports.udp_port import UdpPort
from zesty_burrow.carrier.ports.udp_socket import mark_socket, udp_socket
from zesty_burrow.carrier.session_io import Port, SessionIo
from zesty_burrow.core.credentials import ProxyPassword
from zesty_burrow.core.net import Address
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.proxy import ProxyRoute, silent
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import GatewayUnreachable, ProgramFault, ProxyFailed
from zesty_burrow.host.watches.address_changes import source_towards
from zesty_burrow.protocols.registry import protocol
from zesty_burrow.protocols.session import (
    GRE_PORT,
    Down,
    Event,
    PacketChannel,
    QueuedChannel,
    Secrets,
    Session,
    SessionRequest,
    Transport,
)
from zesty_burrow.records import dataclass, replace


def client_port(address: str, disabled: frozenset[str] = frozenset(), *, marked: bool = False) -> UdpPort:
    """A socket for a gateway at this address. ``marked``: as a tunnel's own, for the guard."""
    channel = udp_socket(socket.AF_INET6 if ":" in address else socket.AF_INET)
    if marked:
        mark_socket(channel)
    return UdpPort(channel, disabled)


def through_proxy(profile: Profile, request: SessionRequest) -> ProxyRoute | None:
    """The way through a profile's proxy, whose name was looked up; None without a proxy."""
    proxy = profile.proxy
    if proxy is None:
        return None
    own = request.secrets.get(CredentialsKind.PROXY_PASSWORD)
    kept = own if isinstance(own, ProxyPassword) else None
    _, port = protocol(profile.tunnel.protocol).outer_ports(profile)[0]
    return ProxyRoute(proxy.kind, str(proxy), (proxy.address, proxy.port), (request.address, port), kept)


class OpenSession:
    """A session with its socket: a UDP one, or a connection where it travels over a byte stream.

    ``profile``: with one transport. ``marked``: the guard lets it through.
    """

    def __init__(
        self,
        profile: Profile,
        request: SessionRequest,
        wake: asyncio.Event,
        disabled: frozenset[str] = frozenset(),
        *,
        marked: bool = False,
    ) -> None:
        self.profile = profile
        request = replace(request, local_address=source_towards(request.address))
        through = through_proxy(profile, request)
        self.session: Session = protocol(profile.tunnel.protocol).session(profile, request, os.urandom)
        if self.session.transport in (Transport.STREAM, Transport.STREAM_AND_GRE):
            self._port: Port = StreamPort(self.session.peer, marked=marked, through=through)
        elif self.session.transport is Transport.FRAMED:
            self._port = FramedPort(self.session.peer, self.session.framing, marked=marked, through=through)
        elif through is not None:
            self._port = RelayedPort(through, marked=marked)
        else:
            self._port = client_port(request.address, disabled, marked=marked)
        ports: dict[int, Port] = {self.session.local_port: self._port}
        self._packets: Port = self._port
        if self.session.transport is Transport.STREAM_AND_GRE:
            try:
                self._packets = ports[GRE_PORT] = GrePort(self.session.peer, marked=marked)
            except BaseException:
                self._port.close()
                raise
        self.io: SessionIo[Event] = SessionIo(self.session, ports, wake)

    @property
    def outer(self) -> str:
        """The address that this machine sends to: the gateway's, or that of a proxy on the way."""
        return outer_address(self.profile, self.session.peer[0])

    @property
    def port(self) -> Port:
        return self._port

    def tunnel(
        self, channel: PacketChannel | QueuedChannel, *, sized: bool = False, wake: asyncio.Event | None = None
    ) -> PathTunnel:
        """For the data path. ``sized``: what the path takes can be confirmed; then ``wake`` is set."""
        if isinstance(channel, QueuedChannel):
            return QueuedTunnel(channel, self.io, self.session.peer)
        port = self._packets
        if isinstance(port, StreamPort) and not isinstance(port, FramedPort):
            raise ProgramFault("a byte stream carries no datagrams")
        # A byte stream's own packets are TCP's to fit into the path.
        size = PathSize() if sized and isinstance(port, UdpPort) else None
        return Tunnel(channel, port, self.session.peer, size=size, wake=wake, outer=self.outer)

    def take_events(self) -> list[Event]:
        """What has happened since the last call; raises what has failed.

        A gateway that seems not to answer may be one that was never asked: by a proxy that does not answer.
        """
        events = self.io.take_events()
        for event in events:
            if (problem := self.proxy_failure(event)) is not None:
                raise problem
        return events

    def proxy_failure(self, event: Event) -> ProxyFailed | None:
        """The error where a session has ended because its proxy does not answer; None otherwise."""
        if isinstance(event, Down) and isinstance(event.error, GatewayUnreachable):
            where = self._port.silent_proxy if isinstance(self._port, StreamPort | RelayedPort) else ""
            return silent(where) if where else None
        return None

    def start(self) -> None:
        self.session.start(self.io.now())
        self.io.flush()

    def end(self) -> None:
        """End it; an event says when the gateway knows."""
        self.session.close(self.io.now())
        self.io.flush()

    def moved(self) -> None:
        """This machine has another address towards the gateway than before."""
        if self.session.transport is not Transport.DATAGRAMS or isinstance(self._port, RelayedPort):
            self.io.connect_anew()
        else:
            self.io.move()

    def say_goodbye(self) -> None:
        """Tell a gateway that has granted a tunnel that it is not used any more; nobody waits for its answer."""
        if self.session.is_up:
            self.session.close(self.io.now())
            for datagram in self.session.send(self.io.now()):
                with suppress(OSError):
                    self.io.ports[datagram.local_port].send(datagram.data, datagram.destination)

    def dispose(self) -> None:
        """Close the socket and stop the timers."""
        self.io.close()


@dataclass(frozen=True, slots=True)
class Opener:
    """Opens sessions as one supervisor wants them. ``timeout``: seconds; ``marked``: the guard lets them through."""

    wake: asyncio.Event
    timeout: float
    disabled: frozenset[str]
    marked: bool

    def open(
        self, profile: Profile, secrets: Secrets, address: str, origin: str = "", wanted: tuple[Address, ...] = ()
    ) -> OpenSession:
        """``origin``: the gateway that has sent us to this one; ``wanted``: what this side had before."""
        request = SessionRequest(address, secrets, datetime.now(UTC), self.timeout, origin, wanted)
        return OpenSession(profile, request, self.wake, self.disabled, marked=self.marked)
