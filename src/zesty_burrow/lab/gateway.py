"""A provider's gateway: a real IKEv2 responder with its own tunnel device, exit addresses and fault knobs."""

from __future__ import annotations

import asyncio
import os
import secrets
import socket
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface, ip_address

from zesty_burrow.carrier.channel import udp_socket
from zesty_burrow.carrier.datapath import DataPath
from zesty_burrow.carrier.inside import bring_up
from zesty_burrow.carrier.port import Burst, UdpPort
from zesty_burrow.carrier.pump import Pump
from zesty_burrow.carrier.tunnel import Flow, Tunnel
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.ike.auth import PrivateKey
from zesty_burrow.core.ike.events import (
    ChildEstablished,
    ChildGone,
    ChildRekeyed,
    Closed,
    Endpoint,
    IkeRekeyed,
    InnerNetwork,
    Moved,
)
from zesty_burrow.core.ike.gateway import Gateway, GatewayEvent
from zesty_burrow.core.ike.proofs import Callers, public_octets
from zesty_burrow.core.ike.proposals import Offer
from zesty_burrow.core.ike.resolvers import EncryptedResolver
from zesty_burrow.core.ike.responder import Responder
from zesty_burrow.core.ike.responder_table import ResponderConfig, State
from zesty_burrow.core.ip import AddressRange
from zesty_burrow.core.profile.model import DEFAULT_ALGORITHMS, ProposalChoice
from zesty_burrow.errors import MachineError
from zesty_burrow.host.netfilter import translate_source
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.host.tun import open_tun
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority, issue, make_authority, make_key
from zesty_burrow.lab.kit import Account, office_files

WEAK = (Offer(((3, 0),), (2,), (2,), (2,)),)
"""3DES, HMAC-SHA1-96, PRF HMAC-SHA1, 1024-bit MODP: what the fault weak-proposals leaves."""
FIRST_INNER, LAST_INNER = 10, 250
MTU = 1400


def _now() -> datetime:
    return datetime.now(UTC)


@dataclass(slots=True)
class Session:
    """One caller's tunnel."""

    responder: Responder
    account: str
    tunnel: Tunnel
    addresses: tuple[bytes, ...]


@dataclass(slots=True)
class GatewayHost:
    """Runs on a gateway's host. ``authority`` signs its certificates; ``accounts``: passwords by name.

    ``without``: what its data path does without; ``also``: what it takes for ESP besides the usual.
    """

    place: story.Place
    authority: Authority
    accounts: dict[str, str]
    raw_keys: dict[bytes, str] = field(default_factory=dict)
    faults: frozenset[str] = frozenset()
    note: str = ""
    signed_in: int = 0
    refused: int = 0
    renewed: int = 0
    without: frozenset[str] = frozenset()
    also: tuple[ProposalChoice, ...] = ()
    _sessions: dict[Responder, Session] = field(default_factory=dict)
    _by_inner: dict[bytes, Session] = field(default_factory=dict)
    _promised: deque[bytes] = field(default_factory=lambda: deque(maxlen=128))
    _device: int = -1
    _path: DataPath | None = None
    _ports: dict[int, UdpPort] = field(default_factory=dict)
    _key: PrivateKey | None = None
    _sockets: dict[int, socket.socket] = field(default_factory=dict)
    _gateway: Gateway | None = None
    _pump: Pump[GatewayEvent] | None = None

    def start(self) -> None:
        """Open device and sockets, and answer."""
        loop = asyncio.get_running_loop()
        try:
            device = open_tun("exit", self.without)
            self._device = device.descriptor
            with Netlink() as netlink:
                bring_up(netlink, device.name, MTU)
                netlink.add_address(device.name, f"{self.place.pool4}1/24")
                netlink.add_address(device.name, f"{self.place.pool6}1/64")
            self._path = DataPath(device, MTU, self._tunnel_for, without=self.without)
            loop.add_reader(self._device, self._path.outbound_ready)
        except MachineError as problem:
            # Without a tunnel device the gateway still negotiates; it only carries nothing.
            self.note = str(problem)
        family = socket.AF_INET if self.place.outer_version == 4 else socket.AF_INET6
        self._sockets = {port: udp_socket(family, (self.place.outer, port)) for port in (500, 4500)}
        self._ports = {4500: UdpPort(self._sockets[4500], self.without)}
        self.set_faults(frozenset())

    @property
    def loops(self) -> str:
        """How its data path works on octets."""
        return self._path.loops.said if self._path is not None else ""

    def set_faults(self, faults: frozenset[str]) -> None:
        """Behave in these wrong ways from now on. Tunnels that stand go on."""
        self.faults = faults
        if self._path is not None:
            self._path.choose_again()
        config = self._config()
        if self._gateway is None:
            self._gateway = Gateway(config, os.urandom, self.place.outer)
            self._pump = Pump(self._gateway, self._sockets, self._receive, self._on_event, self._ports, self._bulk)
        else:
            self._gateway.config = config
        if not self.note:
            elsewhere = "exit-elsewhere" in faults
            translate_source("exit0", self.place.elsewhere4 if elsewhere else self.place.address4(3))
            translate_source("exit0", self.place.elsewhere6 if elsewhere else self.place.address6(3))

    def _config(self) -> ResponderConfig:
        faults = self.faults
        key = self._key = self._key or make_key(self.place.key_kind)
        authority = make_authority("Somebody Else") if "untrusted-authority" in faults else self.authority
        name = f"parked.{story.DOMAIN}" if "wrong-name" in faults else self.place.host_name
        end = -1.0 if "expired-certificate" in faults else 90.0
        certificate = issue(authority, key, name, start_days=end - 91, end_days=end)
        plain = tuple(offer for one in DEFAULT_ALGORITHMS.ike if (offer := one.offer(for_ike=True)))
        # A caller that offers ML-KEM besides gets it; the others are served as ever.
        ike = (*(replace(offer, extra=(36,)) for offer in plain), *plain)
        taken = (*DEFAULT_ALGORITHMS.esp, *self.also)
        esp = tuple(replace(offer, esn=(0, 1)) for one in taken if (offer := one.offer(for_ike=False)))
        return ResponderConfig(
            identity=Identity.of(self.place.host_name),
            certificates=(certificate,),
            key=key,
            ike_offers=WEAK if "weak-proposals" in faults else ike,
            esp_offers=esp,
            password_of=self._password_of,
            assign=self._assign,
            callers=Callers(self._shared_key_of, (self.authority.certificate,), self.raw_keys, _now),
            redirect=self._redirect(),
            sign_in_seconds=6 if "short-sign-in" in faults else 0,
            remote=(AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16)),
        )

    def _redirect(self) -> str:
        if "redirects-away" in self.faults:
            return next(one.outer for one in story.PLACES if one.name != self.place.name)
        return self.place.host_name if "redirects" in self.faults else ""

    def _shared_key_of(self, identity: bytes) -> bytes | None:
        """The stand-in takes an account's password as its pre-shared key too."""
        password = self._password_of(identity.decode("utf-8", "replace"))
        return password.encode() if password else None

    def _password_of(self, account: str) -> str | None:
        password = None if "refused-password" in self.faults else self.accounts.get(account)
        self.refused += password is None
        return password

    def add_account(self, account: str, sign_in: str, *, everything: bool) -> dict[str, str]:
        """Make an account that signs in in some way; the settings for it, as files by name."""
        self.accounts[account] = secrets.token_urlsafe(12)
        made = Account(account, self.accounts[account], make_key("ecdsa"), self._key or make_key(self.place.key_kind))
        if sign_in == "raw-key":
            self.raw_keys[public_octets(made.key)] = account
        return office_files(self.place, self.authority, made, sign_in, everything=everything)

    def _assign(self, account: str, wanted: tuple[bytes, ...]) -> InnerNetwork | None:
        """The address that the account has already, if it asks for that again: a sign-in that is repeated."""
        pool = ip_address(f"{self.place.pool4}0").packed[:3]
        again = [one[3] for one in wanted if len(one) == 4 and one[:3] == pool and self._is_own(one, account)]
        for last in (*again, *range(FIRST_INNER, LAST_INNER)):
            address4 = IPv4Interface(f"{self.place.pool4}{last}/32")
            if last in again or not (address4.ip.packed in self._by_inner or address4.ip.packed in self._promised):
                break
        else:
            return None
        # Many callers may be answered before the first of their tunnels is heard of.
        self._promised.append(address4.ip.packed)
        addresses: tuple[IPv4Interface | IPv6Interface, ...] = (address4,)
        servers: tuple[str, ...] = (story.RESOLVER4, story.RESOLVER6)
        suffixes: tuple[str, ...] = ()
        if self.place is story.OFFICE:
            servers, suffixes = (story.OFFICE_RESOLVER,), (story.OFFICE_SUFFIX,)
        if "no-ipv6" in self.faults:
            servers = servers[:1]
        else:
            addresses += (IPv6Interface(f"{self.place.pool6}{last:x}/64"),)
        if "leaking-resolver" in self.faults:
            servers = (story.ISP_RESOLVER4,)
        inner = InnerNetwork(addresses, tuple(map(ip_address, servers)), suffixes)
        return announced(inner) if self.place is story.OFFICE else inner

    def _is_own(self, address: bytes, account: str) -> bool:
        session = self._by_inner.get(address)
        return session is not None and session.account == account

    def _receive(self, data: bytes, peer: Endpoint, port: int, now: float) -> None:
        if "silent" not in self.faults and self._gateway is not None:
            self._gateway.receive(data, peer, now, port)

    def _bulk(self, burst: Burst, port: UdpPort, number: int, now: float) -> Iterable[bytes]:
        if self._path is None or "silent" in self.faults:
            return (data for data in burst.datagrams() if data[:4] == bytes(4))
        heard, others = self._path.inbound(burst, port)
        for tunnel in heard:
            # RFC 7296 §2.23: follow the caller's address as its own authentic packets show it.
            tunnel.peer = burst.source
        if heard:
            # The kernel has often answered by now.
            self._path.outbound_ready()
        return others

    def _tunnel_for(self, _: bytes, destination: bytes) -> Tunnel | None:
        session = self._by_inner.get(destination)
        return session.tunnel if session is not None and "silent" not in self.faults else None

    def _on_event(self, told: GatewayEvent) -> None:
        event, responder = told.event, told.responder
        session = self._sessions.get(responder)
        if isinstance(event, ChildEstablished):
            self._begin(responder, event)
        elif isinstance(event, ChildRekeyed) and session is not None:
            # What we send goes under the new keys once the caller uses them, or has asked us to.
            self.renewed += 1
            session.tunnel.add(Flow.of(event.child, event.child.local, os.urandom), by_peer=event.by_peer)
            if self._path is not None:
                self._path.carry(session.tunnel)
        elif isinstance(event, IkeRekeyed):
            self.renewed += 1
        elif isinstance(event, Moved) and session is not None:
            session.tunnel.peer = event.peer
        elif isinstance(event, ChildGone) and session is not None:
            session.tunnel.drop(event.spi_in)
            if self._path is not None:
                self._path.forget(event.spi_in)
        elif isinstance(event, Closed) and session is not None:
            self._end_session(session)

    def _begin(self, responder: Responder, event: ChildEstablished) -> None:
        self.signed_in += 1
        addresses = tuple(entry.start for entry in event.remote)
        tunnel = Tunnel(Flow.of(event, event.local, os.urandom), self._ports[4500], responder.peer)
        tunnel.measure()
        session = self._sessions[responder] = Session(responder, responder.account, tunnel, addresses)
        self._by_inner.update(dict.fromkeys(addresses, session))
        self._promised = deque((one for one in self._promised if one not in addresses), maxlen=128)
        if self._path is not None:
            self._path.carry(tunnel)

    def _end_session(self, session: Session) -> None:
        del self._sessions[session.responder]
        for address in session.addresses:
            # Another sign-in of the caller may have taken the address over.
            if self._by_inner.get(address) is session:
                del self._by_inner[address]
        if self._path is not None:
            self._path.forget_tunnel(session.tunnel)

    def end_all(self) -> None:
        """End all tunnels from this side."""
        if self._gateway is not None and self._pump is not None:
            self._gateway.close(self._pump.now())
            self._pump.flush()

    def probe_all(self) -> None:
        """Ask every caller whether it lives."""
        if self._gateway is not None and self._pump is not None:
            for session in self._standing():
                session.responder.probe(self._pump.now())
            self._pump.flush()

    def rekey_all(self, *, ike: bool) -> None:
        """New keys for every tunnel, or for the IKE SA behind it, asked for from this side."""
        if self._gateway is not None and self._pump is not None:
            for session in self._standing():
                (session.responder.rekey_ike if ike else session.responder.rekey)(self._pump.now())
            self._pump.flush()

    def redirect_all(self) -> None:
        """Send every caller to this gateway's own name, as if it were another one."""
        if self._gateway is not None and self._pump is not None:
            for session in self._standing():
                session.responder.redirect(self.place.host_name, self._pump.now())
            self._pump.flush()

    def _standing(self) -> list[Session]:
        return [session for session in self._sessions.values() if session.responder.state is State.ESTABLISHED]

    def status(self) -> dict[str, object]:
        """For ``lab status``."""
        waiting = sum(entry.responder.next_timer() is not None for entry in self._sessions.values())
        return {
            "faults": sorted(self.faults),
            "tunnels": len(self._sessions),
            "renewed": self.renewed,
            "signed_in": self.signed_in,
            "refused": self.refused,
            "unanswered": waiting,
            "note": self.note,
        }


def announced(inner: InnerNetwork) -> InnerNetwork:
    """What only the office says: its file server for NetBIOS names, and its resolver by DNS over TLS as well."""
    resolver = (ip_address(story.OFFICE_RESOLVER),)
    return replace(
        inner,
        netbios_name_servers=(ip_address(story.OFFICE_FILES),),
        encrypted_resolvers=(EncryptedResolver(1, story.OFFICE_ENCRYPTED_RESOLVER, resolver, ("dot",)),),
    )
