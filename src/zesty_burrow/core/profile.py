"""The tunnel profile as values: one way to reach one gateway. What is one protocol's own is in its settings."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from zesty_burrow.core import DEFAULT_PROTOCOL
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.net import Address, Network
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.records import dataclass, field, replace

if TYPE_CHECKING:
    from zesty_burrow.core.finding import Finding
    from zesty_burrow.core.policy.policy import Policy

FORMAT = 2
"""What a profile means that names no protocol: a part of the format."""
PEM_MARK = "-----BEGIN CERTIFICATE-----"
KEY_MARK = "-----BEGIN PUBLIC KEY-----"
LIST_MARK = "-----BEGIN X509 CRL-----"
NAME = re.compile(r"[a-z0-9](?:[a-z0-9.-]{0,62}[a-z0-9])?")
RESERVED_NAMES = frozenset({"guard", "report", "verify", "last", "nearest", "fastest", "strongest", "all", "none"})
"""No profile is called so: where commands take a profile's name, these words mean something else."""
TAG = re.compile(r"(?!.*[A-Z])[^\W_](?:[^\W_]|-){0,31}(?<!-)")
ORDERS = ("listed", "random")
IPV6_HANDLING = ("tunnel", "block", "outside")
LOCAL_NETWORK = ("outside", "inside")
REVOCATION_STATUS = ("reported", "required")
EVERYTHING: tuple[Network, ...] = (ipaddress.IPv4Network("0.0.0.0/0"), ipaddress.IPv6Network("::/0"))
PROXY_KINDS = ("http", "socks5")
MIN_MTU, MAX_MTU, DEFAULT_MTU = 1280, 9000, 1400
FROM_ROUTE, AS_INNER = "route", "inner"
"""Words in place of a number: for the MTU, and for the DSCP."""
MAX_DSCP = 63


@dataclass(frozen=True, slots=True)
class Gateway:
    """Where the gateway is: host names or addresses, and in which order they are tried."""

    addresses: tuple[str, ...]
    order: str = "listed"


@dataclass(frozen=True, slots=True)
class TunnelSettings:
    """The protocol, and what every protocol's packets have.

    ``mtu``: of the tunnel device, 0: what the path to the gateway takes. ``dscp``: of the outer header (RFC 2474),
    None: as the inner one has it. ``clamp_tcp_mss``: TCP's MSS is lowered to what fits.
    """

    protocol: str = DEFAULT_PROTOCOL
    mtu: int = DEFAULT_MTU
    dscp: int | None = 0
    clamp_tcp_mss: bool = False

    @property
    def particulars(self) -> tuple[str, ...]:
        """What differs from the defaults, in words; the MTU always."""
        defaults = TunnelSettings()
        found = [f"MTU {self.mtu or 'from the route'}"]
        if self.dscp != defaults.dscp:
            found.append("DSCP as inside" if self.dscp is None else f"DSCP {self.dscp}")
        if self.clamp_tcp_mss:
            found.append("TCP MSS clamped")
        return tuple(found)


@dataclass(frozen=True, slots=True)
class SignIn:
    """How both sides prove themselves, by words that the protocol knows.

    ``credentials`` is the label under which the secrets are kept.
    """

    gateway: str = "certificate"
    method: str = "eap-mschapv2"
    credentials: str = ""


@dataclass(frozen=True, slots=True)
class Traffic:
    """What goes through the tunnel, what of it is ``left_out``, and how names are resolved.

    ``behind``: networks that are reached by this machine; the gateway is told to send their packets here.
    ``local_networks``: public networks that count as local ones where this machine is in them. ``reach``: hosts, with
    a port or without, that a verification expects to reach.
    """

    networks: tuple[Network, ...] = EVERYTHING
    ipv6: str = "tunnel"
    local_network: str = "outside"
    name_servers: tuple[Address, ...] = ()
    suffixes: tuple[str, ...] = ()
    netbios_name_servers: tuple[Address, ...] = ()
    left_out: tuple[Network, ...] = ()
    behind: tuple[Network, ...] = ()
    local_networks: tuple[Network, ...] = ()
    reach: tuple[str, ...] = ()

    @property
    def beside(self) -> tuple[Network, ...]:
        """What goes as it would without a tunnel."""
        return tuple(dict.fromkeys((*self.left_out, *self.behind)))

    @property
    def everything(self) -> bool:
        """Whether all traffic of a family goes through the tunnel."""
        return any(network.prefixlen == 0 for network in self.networks)


@dataclass(frozen=True, slots=True)
class Proxy:
    """On the way to the gateway. ``kind``: ``http`` or ``socks5``; ``sign_in``: whether it wants name and password."""

    kind: str
    address: str
    port: int
    sign_in: bool = False

    def carries(self, over: str) -> bool:
        """Whether a transport can go by it: any TCP, and by SOCKS 5 UDP too (RFC 1928 §7)."""
        return over == "TCP" or (self.kind == "socks5" and over == "UDP")

    def __str__(self) -> str:
        host = f"[{self.address}]" if ":" in self.address else self.address
        return f"{self.kind}://{host}:{self.port}"


class ProtocolSettings:
    """What is one protocol's own: the base of the frozen dataclass in the protocol's folder."""

    __slots__ = ()

    hands_out_name_servers = True
    """Whether a gateway can tell which name servers to ask."""
    tells_routes = False
    """Whether this side can tell the gateway of networks behind it."""

    @property
    def gateway_identity(self) -> Identity | None:
        """Who the gateway must prove to be; None: its first address."""
        return None

    def needs(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """The kinds of credentials without which nobody can sign in."""
        return ()

    def useful(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """Kinds that are used where they are kept, and not missed where they are not."""
        return ()

    def over(self) -> str:
        """What it travels in, in a word or two."""
        return ""

    def variants(self) -> tuple[ProtocolSettings, ...]:
        """With one transport each, the preferred one first, where several may be tried; else as they are."""
        return (self,)

    def every_transport(self) -> tuple[ProtocolSettings, ...]:
        """With each transport that the protocol knows."""
        return (self,)

    def written(self) -> dict[str, Any]:
        """The protocol's table in the text form."""
        return {}

    def rows(self) -> list[tuple[str, str]]:
        """Labels and values for people."""
        return []

    def typed(self, gateway: str) -> tuple[tuple[str, str], ...]:
        """What a person types into a built-in client besides server and sign-in: names and values, in order.

        ``gateway``: who it must prove to be.
        """
        return ()

    def check(self, name: str) -> list[Finding]:
        """What can be said of the settings by reading them; ``name``: the profile's."""
        return []

    def judge(self, policy: Policy, name: str) -> list[Finding]:
        """Where they break an organisation's policy."""
        return []

    def restrict(self, policy: Policy, name: str) -> ProtocolSettings:
        """Without what the policy forbids; ``ProfileInvalid`` where nothing is left."""
        return self


NO_SETTINGS = ProtocolSettings()


@dataclass(frozen=True, slots=True)
class Profile:
    """A tunnel profile. ``unknown`` holds keys that are not ours, by section; they survive reading and writing.

    ``edition``: the provider's number or date of these settings; ``tags``: the administrator's own words;
    ``gateway_keys`` and ``revocation_lists``: PEM; ``revocation_status``: what becomes of a gateway of whose
    certificate it is not known whether it was revoked; ``settings``: what is the protocol's own; ``proxy``: one on the
    way to the gateway.
    """

    name: str
    gateway: Gateway
    provider: str = ""
    country: str = ""
    city: str = ""
    edition: str = ""
    tags: tuple[str, ...] = ()
    tunnel: TunnelSettings = TunnelSettings()
    sign_in: SignIn = SignIn()
    settings: ProtocolSettings = NO_SETTINGS
    proxy: Proxy | None = None
    authorities: tuple[str, ...] = ()
    gateway_keys: tuple[str, ...] = ()
    revocation_lists: tuple[str, ...] = ()
    revocation_status: str = "reported"
    traffic: Traffic = Traffic()
    unknown: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    @property
    def place(self) -> str:
        """City and country for people."""
        return ", ".join(part for part in (self.city, self.country) if part) or self.name

    @property
    def variants(self) -> tuple[Profile, ...]:
        """With one transport each, where several may be tried, as far as a proxy carries them."""
        found = [
            variant for variant in self.settings.variants() if self.proxy is None or self.proxy.carries(variant.over())
        ]
        return (self,) if found == [self.settings] else tuple(replace(self, settings=one) for one in found)

    @property
    def over(self) -> str:
        """Protocol and transport, in a few words."""
        by_proxy = f" by {self.proxy.kind} proxy" if self.proxy is not None else ""
        return f"{self.tunnel.protocol} {self.settings.over()}".strip() + by_proxy

    @property
    def gateway_identity(self) -> Identity:
        """Who the gateway must prove to be: as the profile says, else its first address."""
        return self.settings.gateway_identity or Identity.of(self.gateway.addresses[0])

    @property
    def lacks_name_servers(self) -> bool:
        """Whether nobody says whom to ask for names, although all traffic goes through the tunnel."""
        known = self.traffic.name_servers or self.settings.hands_out_name_servers
        return self.traffic.everything and not known

    @property
    def needs(self) -> tuple[CredentialsKind, ...]:
        """The kinds of credentials without which nobody can sign in."""
        by_proxy = (CredentialsKind.PROXY_PASSWORD,) if self.proxy is not None and self.proxy.sign_in else ()
        return (*self.settings.needs(self.sign_in), *by_proxy)

    @property
    def useful(self) -> tuple[CredentialsKind, ...]:
        """Kinds that are used where they are kept, and not missed where they are not."""
        return self.settings.useful(self.sign_in)

    @property
    def credentials_label(self) -> str:
        """Under which label the secrets are kept: the profile's own, else its provider's, else its name."""
        return self.sign_in.credentials or self.provider or self.name
