"""L2TP over IPsec as the registry offers it. Light to load: every profile is read by it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.core.net import UDP
from zesty_burrow.core.profile import Profile, SignIn
from zesty_burrow.core.toml_table import Table
from zesty_burrow.protocols.l2tp_ipsec import settings
from zesty_burrow.protocols.l2tp_ipsec.settings import L2tpSettings

if TYPE_CHECKING:
    from zesty_burrow.core.crypto.random_octets import Random
    from zesty_burrow.protocols.session import Probe, Session, SessionRequest


class L2tpIpsec:
    """L2TP over IPsec (RFC 3193), with IKEv1, in UDP."""

    name = settings.NAME
    sign_in_methods = settings.SIGN_IN_METHODS
    gateway_proofs = settings.GATEWAY_PROOFS
    unprotected_code = ""

    def title(self, profile: Profile) -> str:
        return "L2TP over IPsec, IKEv1, ESP in UDP"

    def refuse_sign_in(self, sign_in: SignIn) -> str:
        """IPsec protects every method."""
        return ""

    def extras(self, profile: Profile) -> tuple[str, ...]:
        """None."""
        return ()

    def outer_ports(self, profile: Profile) -> tuple[tuple[int, int], ...]:
        """IKE's own port, and the one of IKE and ESP behind address translation."""
        ports = settings.settings_of(profile).port, settings.NAT_PORT
        return tuple((UDP, port) for port in dict.fromkeys(ports))

    def read_settings(self, table: Table) -> L2tpSettings:
        """The table ``l2tp-ipsec`` of a profile."""
        return settings.read_settings(table)

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """A caller for a profile."""
        from zesty_burrow.protocols.l2tp_ipsec.from_profile import caller_layers
        from zesty_burrow.protocols.l2tp_ipsec.session import L2tpSession

        return L2tpSession(caller_layers(profile, request, random), profile, request)

    def probe(self, profile: Profile, request: SessionRequest, random: Random, *, is_brief: bool = False) -> Probe:
        """The first message of main mode, and what is answered."""
        from zesty_burrow.protocols.l2tp_ipsec.probe import L2tpProbe

        return L2tpProbe(profile, request.address, request.timeout, random, is_brief=is_brief)


PROTOCOL = L2tpIpsec()
