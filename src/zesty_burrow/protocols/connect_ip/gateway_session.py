"""The gateway's end of CONNECT-IP behind the calls and events that every protocol has; for stand-ins: one caller."""

from __future__ import annotations

import base64
import binascii
from collections import deque
from collections.abc import Callable
from datetime import datetime
from ipaddress import ip_interface, ip_network

from cryptography import x509

from zesty_burrow.core.net import AddressRange, Datagram, Endpoint, intersect
from zesty_burrow.errors import Malformed
from zesty_burrow.protocols.connect_ip.http.link import (
    UPGRADE,
    Asked,
    Bursts,
    Content,
    Gone,
    HttpLink,
    LinkEvent,
    Payload,
    Secured,
)
from zesty_burrow.protocols.connect_ip.machine.channel import CapsuleHttpChannel, HttpChannel
from zesty_burrow.protocols.connect_ip.machine.tunnel import TunnelEnd, ranges_of
from zesty_burrow.protocols.connect_ip.settings import BASIC, CERTIFICATE
from zesty_burrow.protocols.connect_ip.wire.capsules import (
    AddressEntry,
    CapsuleType,
    Interface,
    Route,
    no_address,
    read_payload,
    write_addresses,
    write_routes,
)
from zesty_burrow.protocols.connect_ip.wire.template import ANY, WELL_KNOWN, scope_of
from zesty_burrow.protocols.gateway_proof import caller_of
from zesty_burrow.protocols.session import ChannelChanged, Down, NetworkSettings, Transport, Up
from zesty_burrow.records import dataclass

CHALLENGE = {"www-authenticate": 'Basic realm="tunnel", charset="UTF-8"'}
"""RFC 7617 §2.1."""


@dataclass(frozen=True, slots=True)
class GatewayConfig:
    """``password_of``: an account's, None if it is unknown; ``assign``: as for every gateway of the lab.

    ``anchors``: authorities of callers' certificates; ``sign_ins``: which ways to sign in are enough, by the words of
    a profile. ``remote``: where packets are carried to; ``networks_of``: behind which networks an account may be.
    """

    password_of: Callable[[str], str | None]
    assign: Callable[[str, tuple[bytes, ...]], NetworkSettings | None]
    remote: tuple[AddressRange, ...]
    wall_time: Callable[[], datetime]
    anchors: tuple[x509.Certificate, ...] = ()
    sign_ins: tuple[str, ...] = (BASIC, CERTIFICATE)
    template: str = WELL_KNOWN
    redirect: str = ""
    networks_of: Callable[[str], tuple[AddressRange, ...]] = lambda account: ()


class ConnectIpCaller:
    """One connection. ``account``: as whom it has signed in; ``channel``: None until it is up.

    ``networks``: those behind the caller, as it has told and may.
    """

    local_port = 1

    def __init__(self, config: GatewayConfig, link: HttpLink, peer: Endpoint, transport: Transport) -> None:
        self.config, self.peer, self.transport = config, peer, transport
        self.account = ""
        self.channel: HttpChannel | None = None
        self.networks: tuple[AddressRange, ...] = ()
        self.is_over = False
        self.link = link
        self._shown: tuple[x509.Certificate, ...] = ()
        self._tunnel = TunnelEnd()
        self._assigned: tuple[Interface, ...] = ()
        self._routes: tuple[AddressRange, ...] = ()
        self._events: deque[Up | ChannelChanged | Down] = deque()

    @property
    def is_up(self) -> bool:
        """Whether it has a tunnel."""
        return self.channel is not None and not self.is_over

    @property
    def answered(self) -> set[int]:
        """IDs of address requests that the caller has answered."""
        return self._tunnel.answered

    @property
    def is_blocked(self) -> bool:
        """Whether packets would only wait."""
        return self.link.waiting > 0

    def close(self, now: float) -> None:
        """End it from this side."""
        self.link.close()
        self._end(now, "the gateway ended it", by_peer=False)

    def receive(self, data: bytes, source: Endpoint, now: float, local_port: int = 0) -> None:
        """Take octets of the connection; empty data is its end."""
        self.peer = source
        if not self.is_over:
            self._take(self.link.receive(data, now, source), now)

    def receive_burst(self, octets: bytes, size: int, source: Endpoint, now: float) -> None:
        """Take many datagrams at once, or a piece of a byte stream."""
        self.peer = source
        if len(octets) <= size:
            self.receive(octets, source, now)
        elif not self.is_over and isinstance(self.link, Bursts):
            self._take(self.link.receive_burst(octets, size, now, source), now)

    def send(self, now: float) -> list[Datagram]:
        channel = self.channel
        if channel is not None and channel.going:
            going, channel.going = channel.going, []
            if isinstance(channel, CapsuleHttpChannel):
                self.link.content(b"".join(going))
            else:
                self.link.packets(going)
        return [Datagram(data, self.local_port, to or self.peer) for data, to in self.link.out(now)]

    def next_timer(self) -> float | None:
        """When to call ``handle_timer``."""
        return None if self.is_over else self.link.next_timer()

    def handle_timer(self, now: float) -> None:
        self._take(self.link.handle_timer(now), now)

    def next_event(self) -> Up | ChannelChanged | Down | None:
        """The next event, or None."""
        return self._events.popleft() if self._events else None

    def _take(self, events: list[LinkEvent], now: float) -> None:
        try:
            for event in events:
                if isinstance(event, Content):
                    self._on_content(event.data, now)
                elif isinstance(event, Payload) and self.channel is not None:
                    self.channel.received(read_payload(event.data), now)
                elif isinstance(event, Secured):
                    self._shown = event.chain
                elif isinstance(event, Asked):
                    self._on_asked(event)
                elif isinstance(event, Gone):
                    self._end(now, event.why, by_peer=True)
        except Malformed as problem:
            # RFC 9297 §3.3: the request stream is ended.
            self.link.close()
            self._end(now, str(problem), by_peer=True)

    def _on_asked(self, event: Asked) -> None:
        if self.account:
            return
        if event.protocol != UPGRADE or event.method != "CONNECT":
            self.link.answer(501, {})
        elif self.config.redirect:
            self.link.answer(307, {"location": self.config.redirect})
        elif (remote := self._remote(event.request.path)) is None:
            self.link.answer(404, {})
        elif not (account := self._account(event.request.headers.get("authorization", ""))):
            self.link.answer(401, CHALLENGE)
        else:
            self.account, self._routes = account, remote
            self.link.answer(200, {})
            self.link.content(write_routes([Route(one) for one in remote]))

    def _remote(self, path: str) -> tuple[AddressRange, ...] | None:
        """Where this caller may send to (RFC 9484 §4.6); None for a path that is not served."""
        scope = scope_of(path, self.config.template)
        if scope is None or scope[1] != ANY:
            return None
        try:
            asked = () if scope[0] == ANY else (AddressRange.of(ip_network(scope[0])),)
        except ValueError:
            return None
        return intersect(asked, self.config.remote) if asked else self.config.remote

    def _account(self, authorization: str) -> str:
        """Who may come in; empty where nobody may."""
        named = self._by_password(authorization)
        try:
            shown = caller_of(self._shown, self.config.anchors, self.config.wall_time()) if self._shown else ""
        except Malformed:
            return ""
        ways = {BASIC: named, CERTIFICATE: shown, f"{CERTIFICATE}+{BASIC}": named if shown else ""}
        return next((ways[one] for one in self.config.sign_ins if ways[one]), "")

    def _by_password(self, authorization: str) -> str:
        scheme, _, token = authorization.partition(" ")
        try:
            name, colon, password = base64.b64decode(token.strip(), validate=True).decode().partition(":")
        except (binascii.Error, UnicodeDecodeError):
            return ""
        if scheme.lower() != "basic" or not colon:
            return ""
        return name if self.config.password_of(name) == password else ""

    def _on_content(self, data: bytes, now: float) -> None:
        if not self.account:
            # Nobody may send capsules before the answer; what came is dropped with the request.
            return
        if isinstance(self.channel, CapsuleHttpChannel) and self.channel.diverted is not None:
            data = self.channel.diverted(data)
        if self._tunnel.feed(data):
            self._take_networks(now)
        if self._tunnel.asked:
            asked, self._tunnel.asked = self._tunnel.asked, []
            self._assign(asked, now)
        for packet in self._tunnel.take_packets():
            if self.channel is not None:
                self.channel.received(packet, now)

    def _assign(self, asked: list[AddressEntry], now: float) -> None:
        wanted = tuple(one.address.ip.packed for one in asked if not one.is_nothing)
        inner = self.config.assign(self.account, wanted) if not self._assigned else None
        self._assigned = self._assigned or (inner.addresses if inner is not None else ())
        entries, left = [], list(self._assigned)
        for one in asked:
            given = next((address for address in left if address.version == one.address.version), None)
            entries.append(AddressEntry(one.request, given or no_address(one.address.version)))
            left = [address for address in left if address is not given]
        rows = [_whole(entry) for entry in entries]
        self.link.content(write_addresses(CapsuleType.ADDRESS_ASSIGN, rows))
        if self.channel is None and self._assigned:
            remote = (*ranges_of(self._assigned), *self.networks)
            kind = CapsuleHttpChannel if self.transport is Transport.STREAM else HttpChannel
            self.channel = kind(self._routes, remote, self.link.room)
            if isinstance(self.channel, CapsuleHttpChannel):
                self.channel.begin_stream(self._tunnel.reader)
            network = inner or NetworkSettings(self._assigned)
            self._events.append(Up(now, network, remote, self.channel))

    def _take_networks(self, now: float) -> None:
        """What the caller tells of (RFC 9484 §4.7.3), as far as it is the account's to tell."""
        before, told = self.networks, self._tunnel.routes or ()
        self.networks = intersect(told, self.config.networks_of(self.account))
        if self.channel is not None and self.networks != before:
            self.channel.change(self._routes, (*ranges_of(self._assigned), *self.networks))
            self._events.append(ChannelChanged(now))

    def _end(self, now: float, why: str, *, by_peer: bool) -> None:
        if not self.is_over:
            self.is_over = True
            self._events.append(Down(now, by_peer, why))


def _whole(entry: AddressEntry) -> AddressEntry:
    """With the address alone: what it is in on the gateway's side is not the caller's."""
    address = entry.address.ip
    return AddressEntry(entry.request, ip_interface(f"{address}/{address.max_prefixlen}"))
