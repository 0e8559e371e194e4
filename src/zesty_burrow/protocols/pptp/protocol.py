"""PPTP as the registry offers it. Light to load: every profile is read by it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.core.net import GRE, TCP
from zesty_burrow.core.profile import Profile, SignIn
from zesty_burrow.core.toml_table import Table
from zesty_burrow.protocols.pptp import settings
from zesty_burrow.protocols.pptp.codes import UNPROTECTED
from zesty_burrow.protocols.pptp.control import PORT
from zesty_burrow.protocols.pptp.settings import PptpSettings

if TYPE_CHECKING:
    from zesty_burrow.core.crypto.random_octets import Random
    from zesty_burrow.protocols.session import Probe, Session, SessionRequest


class Pptp:
    """PPTP (RFC 2637) with MS-CHAPv2 and MPPE: only with --unprotected each time."""

    name = settings.NAME
    sign_in_methods = settings.SIGN_IN_METHODS
    gateway_proofs = settings.GATEWAY_PROOFS
    unprotected_code = UNPROTECTED.slug

    def title(self, profile: Profile) -> str:
        """With what carries the packets."""
        return "PPTP, MPPE in GRE"

    def refuse_sign_in(self, sign_in: SignIn) -> str:
        return ""

    def extras(self, profile: Profile) -> tuple[str, ...]:
        """None."""
        return ()

    def outer_ports(self, profile: Profile) -> tuple[tuple[int, int], ...]:
        """The control connection, and GRE."""
        return (TCP, PORT), (GRE, 0)

    def read_settings(self, table: Table) -> PptpSettings:
        """The table ``pptp`` of a profile."""
        return settings.read_settings(table)

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """A caller for a profile."""
        from zesty_burrow.protocols.pptp.session import PptpSession

        return PptpSession(profile, request, random)

    def probe(self, profile: Profile, request: SessionRequest, random: Random, *, is_brief: bool = False) -> Probe:
        """The first message of its control connection."""
        from zesty_burrow.protocols.pptp.probe import PptpProbe

        return PptpProbe(request.address, request.timeout, random)


PROTOCOL = Pptp()
