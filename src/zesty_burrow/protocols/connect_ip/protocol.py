"""CONNECT-IP as the registry offers it. Light to load: every profile is read by it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.profile import Profile, SignIn
from zesty_burrow.core.toml_table import Table
from zesty_burrow.protocols.connect_ip import settings
from zesty_burrow.protocols.connect_ip.settings import ConnectIpSettings

if TYPE_CHECKING:
    from zesty_burrow.core.crypto.random_octets import Random
    from zesty_burrow.protocols.session import Probe, Session, SessionRequest


class ConnectIp:
    """CONNECT-IP (RFC 9484) over HTTP/3, HTTP/2 and HTTP/1.1."""

    name = settings.NAME
    sign_in_methods = settings.SIGN_IN_METHODS
    gateway_proofs = settings.GATEWAY_PROOFS
    unprotected_code = ""

    def title(self, profile: Profile) -> str:
        """With the transport of HTTP; HTTP/3 is the one in UDP."""
        over = profile.settings.over()
        return "CONNECT-IP, HTTP/3" if over == "UDP" else f"CONNECT-IP, HTTP in {over}"

    def refuse_sign_in(self, sign_in: SignIn) -> str:
        """Every way to sign in goes with the gateway's certificate."""
        return ""

    def extras(self, profile: Profile) -> tuple[str, ...]:
        """HTTP/3, if the profile may use UDP."""
        return () if settings.settings_of(profile).transport == settings.TCP_TRANSPORT else ("http3",)

    def outer_ports(self, profile: Profile) -> tuple[tuple[int, int], ...]:
        ways = map(settings.settings_of, profile.variants)
        return tuple((TCP if own.transport == settings.TCP_TRANSPORT else UDP, own.port) for own in ways)

    def read_settings(self, table: Table) -> ConnectIpSettings:
        """The table ``connect-ip`` of a profile."""
        return settings.read_settings(table)

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """A client for a profile."""
        from zesty_burrow.protocols.connect_ip.config import client_config
        from zesty_burrow.protocols.connect_ip.session import ConnectIpSession

        return ConnectIpSession(client_config(profile, request), profile.credentials_label)

    def probe(self, profile: Profile, request: SessionRequest, random: Random, *, is_brief: bool = False) -> Probe:
        """TLS and the settings of HTTP, without a request; never more than one connection."""
        from zesty_burrow.protocols.connect_ip.config import client_config
        from zesty_burrow.protocols.connect_ip.probe import HttpProbe

        return HttpProbe(client_config(profile, request))


PROTOCOL = ConnectIp()
