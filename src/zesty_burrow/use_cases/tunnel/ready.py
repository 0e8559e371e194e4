"""Whether this machine is ready for a tunnel, and what corrects it."""

from __future__ import annotations

from collections.abc import Iterable

from zesty_burrow.carrier.probe import probe_gateways
from zesty_burrow.host.readiness import local
from zesty_burrow.host.readiness.check import Readiness, ReadinessCheck
from zesty_burrow.observe.way_out import look_at_way_out
from zesty_burrow.use_cases.observatories import observatories
from zesty_burrow.use_cases.workspace import Workspace

PATIENCE = 3.0
"""Seconds for a gateway to answer."""


def look_whether_ready(
    names: tuple[str, ...], workspace: Workspace, observatory: str = ""
) -> tuple[ReadinessCheck, ...]:
    """What this machine has and lacks for a tunnel; changes nothing.

    ``names``: profiles whose gateways are asked. ``observatory``: URL, empty: from the settings. Raises
    :class:`NotFound`.
    """
    paths, now = workspace.paths, workspace.now()
    found = [
        local.rights(),
        local.tunnel_device(),
        local.packet_filter(),
        local.resolver(),
        local.others(),
        local.own_state(paths),
        local.space(paths),
        local.clock(now.timestamp()),
        *local.links(),
        local.offloads(),
    ]
    asked = observatories(workspace, observatory)
    if asked:
        found += look_at_way_out(asked[0], now)
    return (*found, *_gateways(names, workspace))


def _gateways(names: Iterable[str], workspace: Workspace) -> list[ReadinessCheck]:
    wanted = list(names)
    if not wanted:
        return []
    with workspace.layered_store() as layered_store:
        profiles = [layered_store.find_profile(name)[0] for name in wanted]
    checks = []
    for profile, seen in zip(profiles, probe_gateways(profiles, PATIENCE, lambda _: None), strict=True):
        name = f"gateway of {profile.name}"
        if seen.capabilities is None and not seen.address:
            host = profile.gateway.addresses[0]
            why = "Without an address the gateway cannot be asked."
            remedy = f"Check the name {host}, and this machine's name servers: zesty status --network"
            checks.append(ReadinessCheck(name, Readiness.ATTENTION, seen.why, why, remedy))
        elif seen.capabilities is None:
            why = "Some networks let no UDP out."
            remedy = "Allow UDP ports 500 and 4500, or try another network; under the guard, end it first."
            checks.append(
                ReadinessCheck(name, Readiness.ATTENTION, f"{seen.address}: {seen.why}".lstrip(": "), why, remedy)
            )
        else:
            checks.append(ReadinessCheck(name, Readiness.READY, f"{seen.address} answers"))
    return checks
