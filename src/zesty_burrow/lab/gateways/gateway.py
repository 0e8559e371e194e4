"""A provider's gateway: it speaks IKEv2 and CONNECT-IP, with a tunnel device, exit addresses and fault knobs."""

from __future__ import annotations

import asyncio
import os
import secrets
import socket
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from ipaddress import IPv4Interface, IPv6Interface, ip_address

from cryptography import x509

from zesty_burrow.carrier.data_path.data_path import DataPath
from zesty_burrow.carrier.data_path.tunnel import DatagramPort, PathTunnel, Tunnel
from zesty_burrow.carrier.network.host_config import bring_up
from zesty_burrow.carrier.ports.udp_port import Burst, UdpPort
from zesty_burrow.carrier.ports.udp_socket import udp_socket
from zesty_burrow.carrier.session_io import SessionIo
from zesty_burrow.core.crypto.private_key import PrivateKey
from zesty_burrow.core.dns.encrypted_resolver import EncryptedResolver
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import AddressRange, Endpoint
from zesty_burrow.errors import MachineError, ProgramFault
from zesty_burrow.host.netlink import RT_TABLE_MAIN, Netlink, Route
from zesty_burrow.host.packet_filter.source_translation import translate_source
from zesty_burrow.host.tun import open_tun
from zesty_burrow.lab import story
from zesty_burrow.lab.authority import Authority, issue, make_authority, make_key
from zesty_burrow.lab.gateways.http_callers import PORT as HTTP_PORT
from zesty_burrow.lab.gateways.http_callers import HttpCallers
from zesty_burrow.lab.gateways.l2tp_callers import BothVersions
from zesty_burrow.lab.gateways.pptp_callers import PptpCallers
from zesty_burrow.lab.gateways.stream_callers import EitherPort, StreamCallers
from zesty_burrow.lab.kit import Account, office_files
from zesty_burrow.protocols.connect_ip.gateway_session import ConnectIpCaller, GatewayConfig
from zesty_burrow.protocols.ikev2.gateway_session import Caller, CallerEvent, IkeGatewaySession
from zesty_burrow.protocols.ikev2.machine.authentication import Callers, public_octets
from zesty_burrow.protocols.ikev2.responder.responder import Responder
from zesty_burrow.protocols.ikev2.responder.table import ResponderConfig
from zesty_burrow.protocols.ikev2.settings import DEFAULTS, ProposalChoice
from zesty_burrow.protocols.ikev2.wire.offer import Offer
from zesty_burrow.protocols.l2tp_ipsec.gateway_session import L2tpCaller, L2tpCallerEvent
from zesty_burrow.protocols.l2tp_ipsec.ikev1.end import IkeEnd
from zesty_burrow.protocols.pptp.gateway_session import PptpCaller
from zesty_burrow.protocols.session import Down, Moved, NetworkSettings, Rekeyed, Up
from zesty_burrow.records import dataclass, field, replace

WEAK = (Offer(((3, 0),), (2,), (2,), (2,)),)
"""3DES, HMAC-SHA1-96, PRF HMAC-SHA1, 1024-bit MODP: what the fault weak-proposals leaves."""
EVERYTHING = (AddressRange(bytes(4), b"\xff" * 4), AddressRange(bytes(16), b"\xff" * 16))
LESS = (AddressRange(bytes((10, 0, 0, 0)), bytes((10, 255, 255, 255))),)
"""What it carries: as a rule, and what the fault grants-less leaves."""
AnyCaller = Caller | ConnectIpCaller | L2tpCaller | PptpCaller
FIRST_INNER, LAST_INNER = 10, 250
MTU = 1400


def now() -> datetime:
    """The wall clock."""
    return datetime.now(UTC)


@dataclass(slots=True)
class GatewayHost:
    """Runs on a gateway's host. ``authority`` signs its certificates; ``accounts``: passwords by name.

    ``shared_key``: what all callers by L2TP over IPsec have.
    ``disabled``: what its data path does without; ``also``: what it takes for ESP besides the defaults.
    """

    place: story.Site
    authority: Authority
    accounts: dict[str, str]
    shared_key: str
    raw_keys: dict[bytes, str] = field(default_factory=dict)
    faults: frozenset[str] = frozenset()
    note: str = ""
    signed_in: int = 0
    refused: int = 0
    renewed: int = 0
    disabled: frozenset[str] = frozenset()
    also: tuple[ProposalChoice, ...] = ()
    _tunnels: dict[AnyCaller, PathTunnel] = field(default_factory=dict)
    _by_inner: dict[bytes, AnyCaller] = field(default_factory=dict)
    _behind: dict[AnyCaller, tuple[Route, ...]] = field(default_factory=dict)
    _promised: deque[bytes] = field(default_factory=lambda: deque(maxlen=128))
    _path: DataPath | None = None
    _port: EitherPort | None = None
    _streams: StreamCallers | None = None
    _http: HttpCallers | None = None
    _pptp: PptpCallers | None = None
    _chain: tuple[x509.Certificate, ...] = ()
    _key: PrivateKey | None = None
    _session: IkeGatewaySession | None = None
    _versions: BothVersions | None = None
    _io: SessionIo[CallerEvent | L2tpCallerEvent] | None = None
    _wake: asyncio.Event = field(default_factory=asyncio.Event)
    _task: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Open device and sockets, and answer."""
        try:
            device = open_tun("exit", self.disabled)
            with Netlink() as netlink:
                bring_up(netlink, device.name, MTU)
                netlink.add_address(device.name, f"{self.place.pool4}1/24")
                netlink.add_address(device.name, f"{self.place.pool6}1/64")
            self._path = DataPath(device, MTU, disabled=self.disabled)
            self._path.start_reading()
        except MachineError as problem:
            # Without a tunnel device the gateway still negotiates; it only carries nothing.
            self.note = str(problem)
        family = socket.AF_INET if self.place.outer_version == 4 else socket.AF_INET6
        sockets = {port: udp_socket(family, (self.place.outer, port)) for port in (500, 4500)}
        self._streams = StreamCallers(family, (self.place.outer, 4500), self._on_stream)
        self._port = EitherPort(sockets[4500], self.disabled, self._streams)
        self._session = IkeGatewaySession(self._config(), os.urandom, self.place.outer)
        self._http = HttpCallers(self, (self.place.outer, HTTP_PORT), family, self._wake)
        self._http.start()
        if self.place.is_old:
            self._pptp = PptpCallers(self, family, self._wake)
            self._pptp.start()
        ports = {500: UdpPort(sockets[500], self.disabled), 4500: self._port}
        self._versions = BothVersions(self, self.session)
        self._io = SessionIo(self._versions, ports, self._wake)
        self._io.path = self
        self._task = asyncio.get_running_loop().create_task(self._watch())
        self.set_faults(frozenset())

    @property
    def data_path(self) -> DataPath | None:
        return self._path

    @property
    def session(self) -> IkeGatewaySession:
        """The protocol's end of it."""
        if self._session is None:
            raise ProgramFault("the gateway was not started")
        return self._session

    def set_faults(self, faults: frozenset[str]) -> None:
        """Inject these faults from now on, and no others. Tunnels that are up go on."""
        self.faults = faults
        self.session.gateway.config = self._config()
        for part in (self._http, self._versions):
            if part is not None:
                part.renew()
        if self._path is not None:
            # A silent gateway sends nothing either.
            self._path.plain.tunnels[:] = [] if "silent" in faults else self._tunnels.values()
            self._path.refresh()
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
        self._chain = (x509.load_der_x509_certificate(certificate),)
        plain = tuple(offer for one in DEFAULTS.ike if (offer := one.offer(for_ike=True)))
        # A caller that offers ML-KEM besides gets it; the others are served as ever.
        ike = (*(replace(offer, extra=(36,)) for offer in plain), *plain)
        taken = (*DEFAULTS.esp, *self.also)
        esp = tuple(replace(offer, esn=(0, 1)) for one in taken if (offer := one.offer(for_ike=False)))
        return ResponderConfig(
            identity=Identity.of(self.place.host_name),
            certificates=(certificate,),
            key=key,
            ike_offers=WEAK if "weak-proposals" in faults else ike,
            esp_offers=esp,
            password_of=self.password_of,
            assign=self.assign,
            callers=Callers(self._shared_key_of, (self.authority.certificate,), self.raw_keys, now),
            redirect=self._redirect(),
            sign_in_seconds=8 if "short-sign-in" in faults else 0,
            remote=LESS if "grants-less" in faults else EVERYTHING,
        )

    def http_config(self) -> GatewayConfig:
        """For callers by HTTP: the same accounts and addresses."""
        redirects = {"redirects", "redirects-away"} & self.faults
        return GatewayConfig(
            password_of=self.password_of,
            assign=self.assign,
            remote=LESS if "grants-less" in self.faults else EVERYTHING,
            wall_time=now,
            anchors=(self.authority.certificate,),
            redirect=f"https://{self.place.host_name}/" if redirects else "",
            networks_of=self._networks_of,
        )

    def _networks_of(self, account: str) -> tuple[AddressRange, ...]:
        """Which networks an account may say are behind it."""
        return tuple(AddressRange.of(one) for one in story.CALLERS_NETWORKS)

    def server_keys(self) -> tuple[PrivateKey, tuple[x509.Certificate, ...]]:
        """What it proves itself with."""
        if self._key is None:
            raise ProgramFault("the gateway was not started")
        return self._key, self._chain

    def _redirect(self) -> str:
        if "redirects-away" in self.faults:
            return next(one.outer for one in story.PLACES if one.name != self.place.name)
        return self.place.host_name if "redirects" in self.faults else ""

    def _shared_key_of(self, identity: bytes) -> bytes | None:
        """The stand-in takes an account's password as its pre-shared key too."""
        password = self.password_of(identity.decode("utf-8", "replace"))
        return password.encode() if password else None

    def password_of(self, account: str) -> str | None:
        """An account's password, None where nobody may come in by it."""
        password = None if "refused-password" in self.faults else self.accounts.get(account)
        self.refused += password is None
        return password

    def add_account(self, account: str, sign_in: str, *, everything: bool) -> dict[str, str]:
        """Make an account that signs in in some way; the settings for it, as files by name."""
        self.accounts[account] = secrets.token_urlsafe(12)
        own = self._key or make_key(self.place.key_kind)
        made = Account(account, self.accounts[account], make_key("ecdsa"), own, self.shared_key)
        if sign_in == "raw-key":
            self.raw_keys[public_octets(made.key)] = account
        return office_files(self.place, self.authority, made, sign_in, everything=everything)

    def assign(self, account: str, wanted: tuple[bytes, ...]) -> NetworkSettings | None:
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
        inner = NetworkSettings(addresses, tuple(map(ip_address, servers)), suffixes)
        return announced(inner) if self.place is story.OFFICE else inner

    def _is_own(self, address: bytes, account: str) -> bool:
        caller = self._by_inner.get(address)
        return caller is not None and caller.account == account

    def inbound(self, burst: Burst) -> tuple[None, list[bytes]]:
        """Packets of the callers' tunnels (:class:`PacketPath`); what is left is the session's."""
        if self._path is None or "silent" in self.faults:
            return None, [data for data in burst.datagrams() if data[:4] == bytes(4)]
        used, others = self._path.inbound(burst)
        moved = [tunnel for tunnel in used if tunnel.peer != burst.source]
        for caller in [one for one, tunnel in self._tunnels.items() if tunnel in moved]:
            if isinstance(caller, L2tpCaller):
                caller.moved(burst.source)
        for tunnel in moved:
            # RFC 7296 §2.23: follow the caller's address as its own authentic packets show it.
            tunnel.peer, tunnel.port = burst.source, self._port_to(burst.source)
        if moved:
            self._path.refresh()
        if used:
            # The kernel has often answered by now.
            self._path.outbound_ready()
        return None, others

    takes_no_datagrams = False

    def go_on(self) -> None:
        """No packets travel in IKE's own messages (:class:`PacketPath`)."""

    def _on_stream(self, burst: Burst) -> None:
        """A message of a caller by TCP: as one by UDP to port 4500."""
        if self._io is None:
            return
        now = self._io.now()
        for data in self.inbound(burst)[1]:
            self._io.machine.receive(data, burst.source, now, 4500)
        self._io.flush()

    async def _watch(self) -> None:
        """Look at what has happened to callers."""
        while self._io is not None:
            await self._wake.wait()
            self._wake.clear()
            for reported in self._io.take_events():
                self._on_event(reported.caller, reported.event)
            for callers in (self._http, self._pptp):
                if callers is not None:
                    callers.look()
            if self._path is not None:
                self._path.refresh()

    def _on_event(self, caller: Caller | L2tpCaller, event: object) -> None:
        tunnel = self._tunnels.get(caller)
        if isinstance(event, Up):
            self._begin(caller, event)
        elif isinstance(event, Rekeyed):
            self.renewed += 1
        elif isinstance(event, Moved) and isinstance(tunnel, Tunnel):
            tunnel.peer, tunnel.port = event.peer, self._port_to(event.peer)
        elif isinstance(event, Down):
            self.ended(caller)

    def _begin(self, caller: Caller | L2tpCaller, event: Up) -> None:
        if caller.channel is None:
            raise ProgramFault("a tunnel without a channel is up")
        tunnel = Tunnel(caller.channel, self._port_to(caller.peer), caller.peer, waits=False)
        tunnel.measure()
        self.began(caller, tunnel, event.remote)

    def began(self, caller: AnyCaller, tunnel: PathTunnel, remote: tuple[AddressRange, ...]) -> None:
        """A caller's tunnel is up: ``remote`` is what it was given."""
        self.signed_in += 1
        self._tunnels[caller] = tunnel
        addresses = tuple(entry.start for entry in remote)
        self._by_inner.update(dict.fromkeys(addresses, caller))
        self._promised = deque((one for one in self._promised if one not in addresses), maxlen=128)
        if self._path is not None and "silent" not in self.faults:
            self._path.add(tunnel)
        self.behind(caller)

    def _port_to(self, peer: Endpoint) -> DatagramPort:
        """Its connection where it has one: what the fast path knows are UDP sockets."""
        if self._port is None or self._streams is None:
            raise ProgramFault("the gateway was not started")
        return self._streams.connections.get(peer) or self._port

    def behind(self, caller: AnyCaller) -> None:
        """Send packets for the networks behind a caller to its tunnel; where two tell of one, the earlier has it."""
        told = caller.networks if isinstance(caller, ConnectIpCaller) and caller in self._tunnels else ()
        wanted = tuple(Route(str(network), RT_TABLE_MAIN, "exit0") for one in told for network in one.networks())
        before = self._behind.pop(caller, ())
        if self._path is None or wanted == before:
            return
        kept = {route for routes in self._behind.values() for route in routes}
        with Netlink() as netlink:
            for route in set(before) - kept:
                netlink.delete_route(route)
            for route in set(wanted) - kept:
                netlink.add_route(route)
        if wanted:
            self._behind[caller] = wanted
        self._path.refresh()

    def ended(self, caller: AnyCaller) -> None:
        """Its tunnel is over, if it had one."""
        tunnel = self._tunnels.pop(caller, None)
        if tunnel is None:
            return
        if caller in self._behind:
            self.behind(caller)
        for address in [address for address, one in self._by_inner.items() if one is caller]:
            del self._by_inner[address]
        if self._path is not None:
            self._path.remove(tunnel)

    # What the lab's user asks for.

    def drop_connections(self) -> None:
        """Reset the connections of callers by TCP."""
        for callers in (self._streams, self._http, self._pptp):
            if callers is not None:
                callers.drop_all()

    def _for_each(
        self, action: Callable[[Responder, float], object], former: Callable[[IkeEnd, float], object]
    ) -> None:
        if self._io is not None and self._versions is not None:
            for caller in self.session.callers:
                action(caller.responder, self._io.now())
            for one in self._versions.callers:
                former(one.layers.ike, self._io.now())
            self._io.flush()

    def end_all(self) -> None:
        """End all tunnels from this side."""
        if self._io is not None:
            self.session.close(self._io.now())
            if self._versions is not None:
                self._versions.close(self._io.now())
            self._io.flush()
        if self._http is not None and self._io is not None:
            self._http.end_all(self._io.now)
        if self._pptp is not None:
            self._pptp.end_all()

    def forget_all(self) -> None:
        """As after a restart: no caller is known any more, and nothing is sent."""
        if self._io is not None:
            self.session.forget(self._io.now())
            if self._versions is not None:
                self._versions.forget(self._io.now())
            self._io.flush()
        for callers in (self._http, self._pptp):
            if callers is not None:
                callers.drop_all()

    def probe_all(self) -> None:
        """Ask every caller whether it is alive."""
        self._for_each(Responder.probe, IkeEnd.probe)

    def rekey_all(self, *, ike: bool) -> None:
        """New keys for every tunnel, or for the IKE SA behind it, asked for from this side."""
        if ike:
            self._for_each(Responder.rekey_ike, IkeEnd.rekey_ike)
        else:
            self._for_each(Responder.rekey, IkeEnd.rekey)

    def redirect_all(self) -> None:
        """Send every caller to this gateway's own name, as if it were another one."""
        self._for_each(lambda responder, now: responder.redirect(self.place.host_name, now), lambda end, now: None)

    def status(self) -> dict[str, object]:
        """For ``lab status``."""
        waiting = sum(isinstance(tunnel, Caller) and tunnel.next_timer() is not None for tunnel in self._tunnels)
        return {
            "faults": sorted(self.faults),
            "tunnels": len(self._tunnels),
            "renewed": self.renewed,
            "signed_in": self.signed_in,
            "refused": self.refused,
            "unanswered": waiting,
            "note": self.note,
        }


def announced(inner: NetworkSettings) -> NetworkSettings:
    """What only the office says: its file server for NetBIOS names, and its resolver by DNS over TLS as well."""
    resolver = (ip_address(story.OFFICE_RESOLVER),)
    return replace(
        inner,
        netbios_name_servers=(ip_address(story.OFFICE_FILES),),
        encrypted_resolvers=(EncryptedResolver(1, story.OFFICE_ENCRYPTED_RESOLVER, resolver, ("dot",)),),
    )
