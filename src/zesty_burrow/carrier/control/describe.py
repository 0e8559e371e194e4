"""What a tunnel that has just come up reports about itself."""

from __future__ import annotations

import os
from datetime import UTC, datetime

from zesty_burrow.carrier.control.status import TunnelStatus, algorithms_of
from zesty_burrow.carrier.network.host_config import Applied
from zesty_burrow.core.profile import Profile
from zesty_burrow.protocols.session import NegotiatedSuite, NetworkSettings


def describe(
    profile: Profile, network: NetworkSettings, applied: Applied, suites: tuple[NegotiatedSuite, ...]
) -> TunnelStatus:
    """Without what only the device and the session know. ``applied``: what was set on this machine."""
    traffic = profile.traffic
    return TunnelStatus(
        profile=profile.name,
        provider=profile.provider,
        country=profile.country,
        city=profile.city,
        gateway=profile.gateway_identity.value,
        gateway_address="",
        protocol="",
        since=datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
        device="",
        addresses=tuple(str(entry.ip) for entry in network.addresses),
        name_servers=applied.servers,
        suffixes=traffic.suffixes or network.suffixes,
        netbios_name_servers=tuple(map(str, traffic.netbios_name_servers or network.netbios_name_servers)),
        encrypted_resolvers=tuple(map(str, network.encrypted_resolvers)),
        **algorithms_of(suites),
        ipv6=applied.plan.ipv6,
        networks=tuple(map(str, traffic.networks)),
        left_out=tuple(map(str, traffic.beside)),
        reach=traffic.reach,
        process=os.getpid(),
    )
