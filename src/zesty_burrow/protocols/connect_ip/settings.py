"""What is CONNECT-IP's own in a profile: model, text form, checks, policy."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.identity import Identity
from zesty_burrow.core.policy.policy import Policy
from zesty_burrow.core.policy.tls_names import CIPHER_SUITES, GROUPS, opinion_of, read_name
from zesty_burrow.core.profile import Profile, ProtocolSettings, SignIn
from zesty_burrow.core.scope import CredentialsKind
from zesty_burrow.core.toml_table import Table
from zesty_burrow.errors import ProfileInvalid
from zesty_burrow.protocols.connect_ip.wire.template import WELL_KNOWN, check_template
from zesty_burrow.records import dataclass, replace

NAME = "connect-ip"
TCP_TRANSPORT, UDP_TRANSPORT, ANY_TRANSPORT = "tcp", "udp", "any"
TRANSPORTS = (TCP_TRANSPORT, UDP_TRANSPORT, ANY_TRANSPORT)
"""HTTP/2 or HTTP/1.1 in TLS on TCP; HTTP/3 in QUIC on UDP; or whichever is answered."""
PORT = 443
ANY_PEER_SECONDS = 15
BASIC, CERTIFICATE, BOTH = "basic", "certificate", "certificate+basic"
SIGN_IN_METHODS = (BASIC, CERTIFICATE, BOTH)
GATEWAY_PROOFS = ("certificate",)
HTTP_VERSIONS = ("2", "1.1")
LIFETIMES = {"keep_alive_seconds": (5, 600), "peer_seconds": (10, 3600)}
CIPHER_DEFAULTS = ("TLS_AES_256_GCM_SHA384", "TLS_AES_128_GCM_SHA256", "TLS_CHACHA20_POLY1305_SHA256")
GROUP_DEFAULTS = ("X25519MLKEM768", "x25519", "secp256r1", "secp384r1")
_NEEDED = {
    BASIC: (CredentialsKind.NAME_PASSWORD,),
    CERTIFICATE: (CredentialsKind.CLIENT_KEY,),
    BOTH: (CredentialsKind.CLIENT_KEY, CredentialsKind.NAME_PASSWORD),
}


@dataclass(frozen=True, slots=True)
class ConnectIpSettings(ProtocolSettings):
    """``path``: the URI template's (RFC 9484 §3); ``authority``: host and port of the request, empty for the gateway's.

    ``http_versions``: what is offered on TCP, in this order. ``cipher_suites`` and ``key_exchange``: IANA's names,
    empty for the defaults. A connection on which nothing comes for ``keep_alive_seconds`` is asked whether it is alive;
    one that was lost is made again for ``peer_seconds``.
    """

    transport: str = TCP_TRANSPORT
    port: int = PORT
    path: str = WELL_KNOWN
    authority: str = ""
    identity: Identity | None = None
    http_versions: tuple[str, ...] = HTTP_VERSIONS
    cipher_suites: tuple[str, ...] = ()
    key_exchange: tuple[str, ...] = ()
    keep_alive_seconds: int = 25
    peer_seconds: int = 180

    hands_out_name_servers = False
    tells_routes = True

    @property
    def gateway_identity(self) -> Identity | None:
        """Who the gateway must prove to be; None: its first address."""
        return self.identity

    def needs(self, sign_in: SignIn) -> tuple[CredentialsKind, ...]:
        """The kinds of credentials without which nobody can sign in."""
        return _NEEDED[sign_in.method]

    def over(self) -> str:
        return "UDP or TCP" if self.transport == ANY_TRANSPORT else self.transport.upper()

    def variants(self) -> tuple[ProtocolSettings, ...]:
        """HTTP/3, then HTTP over TCP."""
        if self.transport != ANY_TRANSPORT:
            return (self,)
        soon = min(self.peer_seconds, ANY_PEER_SECONDS)
        return tuple(replace(self, transport=one, peer_seconds=soon) for one in (UDP_TRANSPORT, TCP_TRANSPORT))

    def every_transport(self) -> tuple[ProtocolSettings, ...]:
        return replace(self, transport=ANY_TRANSPORT).variants()

    @property
    def versions(self) -> tuple[str, ...]:
        """Of HTTP, as the transport has them."""
        over_udp = ("3",) if self.transport in (UDP_TRANSPORT, ANY_TRANSPORT) else ()
        return over_udp + (self.http_versions if self.transport != UDP_TRANSPORT else ())

    def written(self) -> dict[str, Any]:
        """The table; what has its default is left out, but for transport and port."""
        table: dict[str, Any] = {"transport": self.transport, "port": self.port}
        if self.identity is not None:
            table["gateway_identity"] = {"type": self.identity.type.name, "value": self.identity.value}
        for name in ("path", "authority", *LIFETIMES):
            if getattr(self, name) != getattr(DEFAULTS, name):
                table[name] = getattr(self, name)
        for name in ("http_versions", "cipher_suites", "key_exchange"):
            if getattr(self, name) != getattr(DEFAULTS, name):
                table[name] = list(getattr(self, name))
        return table

    def rows(self) -> list[tuple[str, str]]:
        """Labels and values for people."""
        versions = " or ".join(f"HTTP/{version}" for version in self.versions)
        found = [("transport", f"{versions} on {self.over()} port {self.port}")]
        if self.path != DEFAULTS.path:
            found.append(("path", self.path))
        if self.authority:
            found.append(("authority", self.authority))
        for name, label in (("cipher_suites", "TLS cipher suites"), ("key_exchange", "TLS key exchange")):
            default = "" if getattr(self, name) else " (default)"
            found.append((label, f"{', '.join(self.offered(name))}{default}"))
        if self.peer_seconds != DEFAULTS.peer_seconds:
            found.append(("silent gateway", f"given up after {self.peer_seconds} s"))
        return found

    def offered(self, name: str) -> tuple[str, ...]:
        """``cipher_suites`` or ``key_exchange``: the settings' own, else the defaults."""
        own: tuple[str, ...] = getattr(self, name)
        return own or (CIPHER_DEFAULTS if name == "cipher_suites" else GROUP_DEFAULTS)

    def judge(self, policy: Policy, name: str) -> list[Finding]:
        """Where the settings break the policy. What they leave to the defaults is the program's to get right."""
        findings = []
        for key in ("cipher_suites", "key_exchange"):
            for one in getattr(self, key):
                said = opinion_of(policy, one)
                if not said.good:
                    findings.append(
                        finding("policy-algorithm", name, f"{one} in {NAME}.{key}: {said.why} ({said.source})")
                    )
        return findings

    def restrict(self, policy: Policy, name: str) -> ConnectIpSettings:
        """With nothing in the offer that the policy forbids."""
        kept: dict[str, Any] = {}
        for key in ("cipher_suites", "key_exchange"):
            kept[key] = tuple(one for one in self.offered(key) if opinion_of(policy, one).good)
            if not kept[key]:
                raise ProfileInvalid(
                    f"profile {name}: the policy leaves nothing to offer in {NAME}.{key}",
                    why=f"the policy ({policy.name}) forbids each of {', '.join(self.offered(key))}",
                    next_step="Change the profile, or let the policy allow what is needed.",
                    slug="policy-algorithm",
                )
        return replace(self, **kept)


DEFAULTS = ConnectIpSettings()


def settings_of(profile: Profile) -> ConnectIpSettings:
    """A profile's settings, which are CONNECT-IP's."""
    return profile.settings if isinstance(profile.settings, ConnectIpSettings) else DEFAULTS


def read_settings(table: Table) -> ConnectIpSettings:
    """The protocol's table of a profile; ``ProfileInvalid`` names the key that is wrong."""
    path = table.text("path", WELL_KNOWN)
    if why := check_template(path):
        raise table.invalid("path", why)
    authority = table.text("authority")
    if len(authority) > 255 or any(letter in authority for letter in " @/?#"):
        raise table.invalid("authority", "a host name or address is needed, perhaps with a colon and a port")
    versions = table.items("http_versions", _version, HTTP_VERSIONS)
    if not versions:
        raise table.invalid("http_versions", f"at least one of {', '.join(HTTP_VERSIONS)} is needed")
    lifetimes = {name: table.number(name, getattr(DEFAULTS, name), *bounds) for name, bounds in LIFETIMES.items()}
    return ConnectIpSettings(
        transport=table.text("transport", TCP_TRANSPORT, TRANSPORTS),
        port=table.number("port", PORT, 1, 65535),
        path=path,
        authority=authority,
        identity=table.identity("gateway_identity"),
        http_versions=tuple(dict.fromkeys(versions)),
        cipher_suites=tuple(dict.fromkeys(table.items("cipher_suites", lambda text: read_name(text, CIPHER_SUITES)))),
        key_exchange=tuple(dict.fromkeys(table.items("key_exchange", lambda text: read_name(text, GROUPS)))),
        **lifetimes,
    )


def _version(text: str) -> str:
    if text not in HTTP_VERSIONS:
        raise ValueError(f"{text!r:.20} is not one of {', '.join(HTTP_VERSIONS)}")
    return text
