"""Observe what the outside sees of this machine, and judge it."""

from __future__ import annotations

import json
import socket
from contextlib import suppress
from ipaddress import ip_address, ip_network

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.judgement import Judgement, judge_facts
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen, read_observation
from zesty_burrow.core.ways_out.seen import WaysSeen
from zesty_burrow.errors import RightsMissing, StateError, UsageError
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.observe.client import ObservatoryAddress, Observer, require_reached
from zesty_burrow.records import dataclass
from zesty_burrow.store.store import ObservationRow
from zesty_burrow.use_cases.tunnel import ways_out
from zesty_burrow.use_cases.tunnel.guard import probed
from zesty_burrow.use_cases.tunnel.running import running_tunnels
from zesty_burrow.use_cases.tunnel.status import (
    guard_findings,
    guard_state,
    judge_negotiated,
    look_at_guard,
    noticed,
)
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class VerifyRequest:
    """``before``: without a tunnel, to compare with later. ``observatory``: URL, empty: from the settings.

    ``extended``: look up 36 one-time names instead of 6.
    """

    before: bool = False
    observatory: str = ""
    extended: bool = False


@dataclass(frozen=True, slots=True)
class Verified:
    """``judgement``: None for an observation before the tunnel. ``profile``: of the tunnel, empty without one.

    ``promised``: where its exit should be, in words. ``before``: what it was compared with.
    """

    observation: Observation
    judgement: Judgement | None = None
    profile: str = ""
    promised: str = ""
    before: Observation | None = None
    guard: GuardState | None = None


def verify(request: VerifyRequest, workspace: Workspace) -> Verified:
    """Observe what the outside sees, and judge it against the latest observation from before the tunnel.

    Raises :class:`UsageError` without an observatory, :class:`StateError` for ``before`` while a tunnel is up.
    """
    url = request.observatory or workspace.settings().observatory
    if not url:
        raise UsageError(
            "no observatory is known",
            next_step=f'Name one with --observatory URL, or write observatory = "URL" into {workspace.paths.settings}.',
        )
    observer = Observer(ObservatoryAddress.of(url), lambda what: workspace.interaction.note(f"  checking {what}"))
    tunnel = next((one.document for one in running_tunnels(workspace) if one.document), None)
    if request.before and tunnel:
        raise StateError(
            f"the tunnel {tunnel['profile']} is up",
            why="a baseline is observed without a tunnel",
            next_step="Disconnect first.",
        )
    status = TunnelStatus.of(tunnel) if tunnel else None
    routes = _routes(status, ObservatoryAddress.of(url).host) if status else []
    observation = observer.observe(extended=request.extended)
    if request.before:
        require_reached(observation, url)
        keep_as_before(observation, workspace)
        return Verified(observation)
    with workspace.store() as store:
        kept = store.latest_observation("before")
        before = read_observation(json.loads(kept.document)) if kept else None
        promise = _promise(status)
        guard = _probed(guard_state(workspace))
        ways = _ways(workspace, guard) if status else None
        guarded = guard is not None and guard.everything and bool(guard.in_force)
        judgement = judge_facts(Facts(before, observation, promise, tuple(routes), ways, guarded))
        also = guard_findings(guard)
        if status:
            also += [*judge_negotiated(status, workspace), *noticed(status)]
        judgement = judgement.also(also)
        profile = str(tunnel["profile"]) if tunnel else ""
        store.add_observation(_row(observation, "after", profile, str(judgement.verdict)))
    words = ", ".join(part for part in (promise.city, promise.country) if part)
    return Verified(observation, judgement, profile, words, before, guard)


def _ways(workspace: Workspace, guard: GuardState | None) -> WaysSeen:
    statuses = [TunnelStatus.of(one.document) for one in running_tunnels(workspace) if one.document]
    return ways_out.look(statuses, guard, look_at_guard(workspace).whole)


def _probed(guard: GuardState | None) -> GuardState | None:
    """With probes of our own against the guard, as far as this user may send them."""
    if guard is None or not guard.everything:
        return guard
    with suppress(RightsMissing):
        return probed(guard)
    return guard


def keep_as_before(observation: Observation, workspace: Workspace) -> None:
    """To compare with later: what is seen without a tunnel."""
    with workspace.store() as store:
        store.add_observation(_row(observation, "before", "", ""))


def _promise(status: TunnelStatus | None) -> ExpectedExit:
    if status is None:
        return ExpectedExit(tunnel_up=False)
    return ExpectedExit(status.country, status.city, status.provider, status.is_up, _takes_everything(status))


def _takes_everything(status: TunnelStatus) -> bool:
    return any(ip_network(network).prefixlen == 0 for network in status.networks)


def _routes(status: TunnelStatus, observatory: str) -> list[RouteSeen]:
    """Where the kernel sends what belongs in the tunnel: asked first, as answers prove nothing otherwise.

    Addresses of families that the tunnel does not carry are not looked at: they have no way out.
    """
    versions = {ip_address(one).version for one in status.addresses}
    inside = [network for network in map(ip_network, status.networks) if network.version in versions]
    outside = [ip_network(one) for one in status.left_out]
    wanted = [(f"name server {name_server}", ip_address(name_server)) for name_server in status.name_servers]
    if _takes_everything(status):
        with suppress(OSError):
            rows = socket.getaddrinfo(observatory, 80, type=socket.SOCK_STREAM)
            wanted += [(f"observatory {observatory}", ip_address(str(row[4][0]))) for row in rows]
    wanted += [(f"network {one}", one.network_address + 1) for one in inside if one.prefixlen]
    seens = []
    with Netlink() as netlink:
        for target, address in dict.fromkeys(wanted):
            if any(address in one for one in inside) and not any(address in one for one in outside):
                seens.append(RouteSeen(target, str(address), netlink.device_towards(str(address)), status.device))
    return seens


def _row(observation: Observation, role: str, profile: str, verdict: str) -> ObservationRow:
    return ObservationRow(observation.taken_at, role, profile, verdict, json.dumps(observation.document()))
