"""IKEv2 as the registry offers it. Light to load: every profile is read by it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zesty_burrow.core.net import TCP, UDP
from zesty_burrow.core.profile import Profile, SignIn
from zesty_burrow.core.toml_table import Table
from zesty_burrow.protocols.ikev2 import settings
from zesty_burrow.protocols.ikev2.settings import IkeSettings

if TYPE_CHECKING:
    from zesty_burrow.core.crypto.random_octets import Random
    from zesty_burrow.protocols.session import Probe, Session, SessionRequest


class IkeV2:
    """IKEv2 and ESP, in UDP or in TCP (RFC 9329)."""

    name = settings.NAME
    sign_in_methods = settings.SIGN_IN_METHODS
    gateway_proofs = settings.GATEWAY_PROOFS
    unprotected_code = ""

    def title(self, profile: Profile) -> str:
        """With the transport of ESP."""
        return f"IKEv2, ESP in {profile.settings.over()}"

    def refuse_sign_in(self, sign_in: SignIn) -> str:
        """A gateway that proves itself by EAP alone needs a method that proves both sides."""
        if sign_in.gateway == "eap" and sign_in.method != "eap-tls":
            return "only a method that proves both sides may stand alone (RFC 5998 §4): eap-tls"
        return ""

    def extras(self, profile: Profile) -> tuple[str, ...]:
        """None."""
        return ()

    def outer_ports(self, profile: Profile) -> tuple[tuple[int, int], ...]:
        """IKE's own port, and the one of IKE and ESP behind address translation (RFC 3947 §4, RFC 3948 §2.1)."""
        found: list[tuple[int, int]] = []
        for own in map(settings.settings_of, profile.variants):
            if own.transport == settings.TCP_TRANSPORT:
                found.append((TCP, own.port))
            else:
                found += [(UDP, own.port), (UDP, settings.NAT_PORT)]
        return tuple(dict.fromkeys(found))

    def read_settings(self, table: Table) -> IkeSettings:
        """The table ``ikev2`` of a profile."""
        return settings.read_settings(table)

    def session(self, profile: Profile, request: SessionRequest, random: Random) -> Session:
        """An initiator for a profile."""
        from zesty_burrow.protocols.ikev2.from_profile import initiator_config
        from zesty_burrow.protocols.ikev2.session import IkeSession

        return IkeSession(initiator_config(profile, request), random, profile.credentials_label)

    def probe(self, profile: Profile, request: SessionRequest, random: Random, *, is_brief: bool = False) -> Probe:
        """IKE_SA_INIT requests, with the profile's own offers first."""
        from zesty_burrow.protocols.ikev2 import probe
        from zesty_burrow.protocols.ikev2.machine.ike_sa import Backoff

        offers, _ = settings.offers_of(profile)
        own = settings.settings_of(profile)
        over_stream = own.transport == settings.TCP_TRANSPORT
        backoff = Backoff(give_up=request.timeout)
        gateway = request.address, own.port
        return probe.Probe(gateway, offers, random, backoff, over_stream=over_stream, is_brief=is_brief)


PROTOCOL = IkeV2()
