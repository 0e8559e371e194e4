"""Everything that a session needs to know beforehand, and how it comes from a profile."""

from __future__ import annotations

import base64
import io
from collections.abc import Callable
from typing import Any, cast

from cryptography import x509
from OpenSSL import SSL

from zesty_burrow.core.credentials import ClientKey, NamePassword
from zesty_burrow.core.crypto.private_key import load_private_key
from zesty_burrow.core.crypto.tls_engine import TlsOptions, make_context
from zesty_burrow.core.identity import IdType
from zesty_burrow.core.net import Address, AddressRange, Endpoint, collapse
from zesty_burrow.core.profile import Profile
from zesty_burrow.core.proxy import LONGEST_HEADER
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.connect_ip.http.link import HttpLink
from zesty_burrow.protocols.connect_ip.http.tls_link import H2, HTTP1, TlsLink
from zesty_burrow.protocols.connect_ip.settings import PORT, UDP_TRANSPORT, ConnectIpSettings, settings_of
from zesty_burrow.protocols.connect_ip.wire.template import ANY, expand
from zesty_burrow.protocols.gateway_proof import MAX_CERTIFICATES, GatewayTrust
from zesty_burrow.protocols.session import Secrets, SessionRequest, Transport
from zesty_burrow.records import dataclass, field

UDP_PAYLOAD = 1452
"""Octets that a path of 1500 takes behind IPv6 and UDP."""
ALPN = {"2": H2, "1.1": HTTP1}


@dataclass(frozen=True, slots=True)
class ClientConfig:
    """``make_link``: a new connection's end, which may go on with an earlier TLS session.

    ``authorization``: makes the header of that name, after the proof; None where nobody signs in by it. ``families``:
    versions of IP to ask for; ``remote``: what is wanted through the tunnel; ``behind``: networks whose packets the
    gateway is asked to send here; ``wanted``: addresses that this side had before. ``key_log``: lines for an analyser,
    as they come.
    """

    gateway: Endpoint
    trust: GatewayTrust
    transport: Transport
    make_link: Callable[[object], HttpLink]
    authority: str
    path: str
    authorization: Callable[[], str] | None
    families: tuple[int, ...]
    remote: tuple[AddressRange, ...]
    timeout: float
    keep_alive: float
    give_up: float
    wanted: tuple[Address, ...] = ()
    behind: tuple[AddressRange, ...] = ()
    key_log: list[str] = field(default_factory=list, repr=False)


def client_config(profile: Profile, request: SessionRequest) -> ClientConfig:
    """A profile as the session wants it. Raises :class:`ProfileInvalid`."""
    settings = settings_of(profile)
    trust = GatewayTrust.of(profile, request.wall_time)
    versions = {network.version for network in profile.traffic.networks}
    if profile.traffic.ipv6 != "tunnel":
        versions.discard(6)
    networks = [one for one in profile.traffic.networks if one.version in versions]
    lines: list[str] = []
    name = trust.gateway_identity.value if trust.gateway_identity.type is IdType.ID_FQDN else ""
    over_udp = settings.transport == UDP_TRANSPORT
    payload = UDP_PAYLOAD - (LONGEST_HEADER if profile.proxy is not None else 0)
    own = request.secrets.get(CredentialsKind.NAME_PASSWORD)
    return ClientConfig(
        gateway=(request.address, settings.port),
        trust=trust,
        transport=Transport.DATAGRAMS if over_udp else Transport.STREAM,
        make_link=(
            _quic_links(payload, settings, request, name, lines)
            if over_udp
            else _tls_links(settings, request, name, lines)
        ),
        authority=settings.authority or _authority(trust.gateway_identity.value, settings.port),
        # One network can be asked for by name; for several everything is, and this side keeps to them.
        path=expand(settings.path, str(networks[0]) if len(networks) == 1 and networks[0].prefixlen else ANY),
        authorization=_basic(profile, own) if isinstance(own, NamePassword) else None,
        families=tuple(sorted(versions)),
        remote=tuple(AddressRange.of(one) for one in networks),
        timeout=request.timeout,
        keep_alive=settings.keep_alive_seconds,
        give_up=settings.peer_seconds,
        wanted=request.wanted,
        behind=tuple(AddressRange.of(one) for one in collapse(profile.traffic.behind) if one.version in versions),
        key_log=lines,
    )


def _authority(host: str, port: int) -> str:
    """RFC 9110 §4.2.2: the port where it is not the scheme's own; IPv6 in brackets (RFC 3986 §3.2.2)."""
    shown = f"[{host}]" if ":" in host else host
    return shown if port == PORT else f"{shown}:{port}"


def _tls_links(
    settings: ConnectIpSettings, request: SessionRequest, name: str, lines: list[str]
) -> Callable[[object], HttpLink]:
    context = _context(settings, request.secrets, lines)
    return lambda earlier: TlsLink.client(context, name, earlier)


def _quic_links(
    payload: int, settings: ConnectIpSettings, request: SessionRequest, name: str, lines: list[str]
) -> Callable[[object], HttpLink]:
    # Loaded where it is used: HTTP/3 brings a library of its own.
    from zesty_burrow.protocols.connect_ip.http.quic_link import QuicLink, Ticket, quic_configuration

    own = request.secrets.get(CredentialsKind.CLIENT_KEY)
    shown = ("", b"") if not isinstance(own, ClientKey) else ("\n".join(own.certificates), own.key.octets())
    configuration = quic_configuration(
        payload,
        shown[1],
        shown[0].encode(),
        is_client=True,
        cipher_suites=settings.offered("cipher_suites"),
        server_name=name,
    )
    configuration.secrets_log_file = io.TextIOWrapper(cast(Any, _Lines(lines)), "ascii", write_through=True)
    peer = (request.address, settings.port)
    return lambda earlier: QuicLink.client(configuration, peer, earlier if isinstance(earlier, Ticket) else None)


class _Lines(io.RawIOBase):
    """A stream that keeps what is written, line by line."""

    def __init__(self, lines: list[str]) -> None:
        self._lines, self._begun = lines, b""

    def writable(self) -> bool:
        return True

    def write(self, data: Any, /) -> int:
        *whole, self._begun = (self._begun + bytes(data)).split(b"\n")
        self._lines += [line.decode("ascii") for line in whole]
        return len(data)


def _context(settings: ConnectIpSettings, secrets: Secrets, lines: list[str]) -> SSL.Context:
    options = TlsOptions(
        settings.offered("cipher_suites"),
        settings.offered("key_exchange"),
        tuple(ALPN[http_version] for http_version in settings.http_versions),
        key_log=lines.append,
    )
    own = secrets.get(CredentialsKind.CLIENT_KEY)
    if not isinstance(own, ClientKey):
        return make_context(options, is_client=True)
    chain = [x509.load_pem_x509_certificate(pem.encode()) for pem in own.certificates[:MAX_CERTIFICATES]]
    return make_context(options, load_private_key(own.key.octets()), chain, is_client=True)


def _basic(profile: Profile, own: NamePassword) -> Callable[[], str]:
    if ":" in own.account:
        raise ProfileInvalid(
            f"profile {profile.name}: the account's name has a colon in it",
            why="HTTP Basic cannot carry one (RFC 7617 §2)",
            next_step="Ask for another account, or sign in by certificate.",
        )

    def make() -> str:
        pair = own.account.encode() + b":" + own.password.octets()
        return "Basic " + base64.b64encode(pair).decode("ascii")

    return make
