"""A provider's gateway: a real IKEv2 responder with its own tunnel device, exit addresses and fault knobs."""

from __future__ import annotations

import asyncio
import os
import secrets
import socket
from collections import deque
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface, ip_address

from zesty_burrow.carrier.datapath import BATCH, MAX_PACKET
from zesty_burrow.carrier.pump import Pump, udp_socket
from zesty_burrow.core.esp.association import InboundSa, OutboundSa
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
from zesty_burrow.core.ike.responder import Responder
from zesty_burrow.core.ike.responder_table import ResponderConfig, State
from zesty_burrow.core.ip import AddressRange, destination, source
from zesty_burrow.core.profile.model import DEFAULT_ALGORITHMS
from zesty_burrow.errors import MachineError, Malformed
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


def _pair(child: ChildEstablished) -> tuple[InboundSa, OutboundSa]:
    inbound = InboundSa(child.spi_in, child.inbound(os.urandom), extended=child.extended)
    return inbound, OutboundSa(child.spi_out, child.outbound(os.urandom), extended=child.extended)


@dataclass(slots=True)
class Session:
    """One caller's tunnel."""

    responder: Responder
    outbound: OutboundSa
    pairs: dict[int, tuple[InboundSa, OutboundSa]]
    addresses: tuple[bytes, ...]
    peer: Endpoint
    waiting: int = 0


@dataclass(slots=True)
class GatewayHost:
    """Runs on a gateway's host. ``authority`` signs its certificates; ``accounts``: passwords by name."""

    place: story.Place
    authority: Authority
    accounts: dict[str, str]
    raw_keys: dict[bytes, str] = field(default_factory=dict)
    faults: frozenset[str] = frozenset()
    note: str = ""
    signed_in: int = 0
    refused: int = 0
    renewed: int = 0
    _by_spi: dict[int, Session] = field(default_factory=dict)
    _by_inner: dict[bytes, Session] = field(default_factory=dict)
    _promised: deque[bytes] = field(default_factory=lambda: deque(maxlen=128))
    _device: int = -1
    _key: PrivateKey | None = None
    _sockets: dict[int, socket.socket] = field(default_factory=dict)
    _gateway: Gateway | None = None
    _pump: Pump[GatewayEvent] | None = None

    def start(self) -> None:
        """Open device and sockets, and answer."""
        loop = asyncio.get_running_loop()
        try:
            device = open_tun("exit")
            self._device = device.descriptor
            with Netlink() as netlink:
                netlink.set_link(device.name, mtu=MTU, state="up")
                netlink.add_address(device.name, f"{self.place.pool4}1/24")
                netlink.add_address(device.name, f"{self.place.pool6}1/64")
            loop.add_reader(self._device, self._outbound)
        except MachineError as problem:
            # Without a tunnel device the gateway still negotiates; it only carries nothing.
            self.note = str(problem)
        family = socket.AF_INET if self.place.outer_version == 4 else socket.AF_INET6
        self._sockets = {port: udp_socket(family, (self.place.outer, port)) for port in (500, 4500)}
        self.set_faults(frozenset())

    def set_faults(self, faults: frozenset[str]) -> None:
        """Behave in these wrong ways from now on. Tunnels that stand go on."""
        self.faults = faults
        config = self._config()
        if self._gateway is None:
            self._gateway = Gateway(config, os.urandom, self.place.outer)
            self._pump = Pump(self._gateway, self._sockets, self._receive, self._on_event)
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
        esp = tuple(replace(offer, esn=(0, 1)) for one in DEFAULT_ALGORITHMS.esp if (offer := one.offer(for_ike=False)))
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

    def _assign(self, account: str) -> InnerNetwork | None:
        for last in range(FIRST_INNER, LAST_INNER):
            address4 = IPv4Interface(f"{self.place.pool4}{last}/32")
            if address4.ip.packed not in self._by_inner and address4.ip.packed not in self._promised:
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
        office = (ip_address(story.OFFICE_FILES),) if self.place is story.OFFICE else ()
        return InnerNetwork(addresses, tuple(map(ip_address, servers)), suffixes, office)

    def _receive(self, data: bytes, peer: Endpoint, port: int, now: float) -> None:
        if "silent" in self.faults or self._gateway is None:
            return
        if port == 4500 and data[:4] != bytes(4):
            self._inbound(data, peer)
        else:
            self._gateway.receive(data, peer, now, port)

    def _on_event(self, told: GatewayEvent) -> None:
        event, responder = told.event, told.responder
        if isinstance(event, ChildEstablished):
            self.signed_in += 1
            pair = _pair(event)
            addresses = tuple(entry.start for entry in event.remote)
            session = Session(responder, pair[1], {event.spi_in: pair}, addresses, responder.peer)
            self._by_spi[event.spi_in] = session
            self._by_inner.update(dict.fromkeys(session.addresses, session))
            self._promised = deque((one for one in self._promised if one not in session.addresses), maxlen=128)
        elif isinstance(event, ChildRekeyed):
            self._renew(event)
        elif isinstance(event, IkeRekeyed):
            self.renewed += 1
        elif isinstance(event, Moved):
            for session in self._by_spi.values():
                if session.responder is responder:
                    session.peer = event.peer
        elif isinstance(event, ChildGone):
            self._forget_pair(event.spi_in)
        elif isinstance(event, Closed):
            gone = next((one for one in self._by_spi.values() if one.responder is responder), None)
            for spi in gone.pairs if gone else ():
                self._by_spi.pop(spi, None)
            for address in gone.addresses if gone else ():
                self._by_inner.pop(address, None)

    def _renew(self, event: ChildRekeyed) -> None:
        """New keys for a session; what it sends goes under them once the caller uses them, or has asked us to."""
        session = self._by_spi.get(event.old_spi_in)
        if session is None:
            return
        self.renewed += 1
        pair = session.pairs[event.child.spi_in] = _pair(event.child)
        self._by_spi[event.child.spi_in] = session
        if event.by_peer:
            session.waiting = event.child.spi_in
        else:
            session.outbound = pair[1]

    def _forget_pair(self, spi: int) -> None:
        session = self._by_spi.pop(spi, None)
        if session is None:
            return
        old = session.pairs.pop(spi)
        if session.outbound is old[1] and session.waiting in session.pairs:
            session.outbound, session.waiting = session.pairs[session.waiting][1], 0

    def _inbound(self, data: bytes, peer: Endpoint) -> None:
        spi = int.from_bytes(data[:4])
        session = self._by_spi.get(spi)
        if session is None:
            return
        try:
            packet = session.pairs[spi][0].open(data)
        except Malformed:
            return
        if spi == session.waiting:
            session.outbound, session.waiting = session.pairs[spi][1], 0
        # RFC 7296 §2.23: follow the caller's address as its own authentic packets show it.
        session.peer = peer
        if packet and source(packet) in session.addresses and self._device >= 0:
            with suppress(OSError):
                os.write(self._device, packet)

    def _outbound(self) -> None:
        for _ in range(BATCH):
            try:
                packet = os.read(self._device, MAX_PACKET)
            except BlockingIOError:
                return
            session = self._by_inner.get(destination(packet))
            if session is not None and "silent" not in self.faults:
                with suppress(OSError):
                    self._sockets[4500].sendto(session.outbound.seal(packet), session.peer)

    def end_all(self) -> None:
        """End all tunnels from this side."""
        if self._gateway is not None and self._pump is not None:
            self._gateway.close(self._pump.now())
            self._pump.flush()

    def probe_all(self) -> None:
        """Ask every caller whether it lives."""
        if self._gateway is not None and self._pump is not None:
            for session in self._sessions():
                session.responder.probe(self._pump.now())
            self._pump.flush()

    def rekey_all(self, *, ike: bool) -> None:
        """New keys for every tunnel, or for the IKE SA behind it, asked for from this side."""
        if self._gateway is not None and self._pump is not None:
            for session in self._sessions():
                (session.responder.rekey_ike if ike else session.responder.rekey)(self._pump.now())
            self._pump.flush()

    def redirect_all(self) -> None:
        """Send every caller to this gateway's own name, as if it were another one."""
        if self._gateway is not None and self._pump is not None:
            for session in self._sessions():
                session.responder.redirect(self.place.host_name, self._pump.now())
            self._pump.flush()

    def _sessions(self) -> list[Session]:
        every = {id(session): session for session in self._by_spi.values()}
        return [session for session in every.values() if session.responder.state is State.ESTABLISHED]

    def status(self) -> dict[str, object]:
        """For ``lab status``."""
        waiting = sum(entry.responder.next_timer() is not None for entry in self._by_spi.values())
        return {
            "faults": sorted(self.faults),
            "tunnels": len({id(session) for session in self._by_spi.values()}),
            "renewed": self.renewed,
            "signed_in": self.signed_in,
            "refused": self.refused,
            "unanswered": waiting,
            "note": self.note,
        }
