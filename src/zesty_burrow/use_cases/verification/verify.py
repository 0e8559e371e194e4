"""Observe what the outside sees of this machine, and judge it."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.outside.checks.check import Facts
from zesty_burrow.core.outside.intent import Intent
from zesty_burrow.core.outside.judgement import judge_facts
from zesty_burrow.core.outside.observation import ExpectedExit, Observation, RouteSeen, read_observation
from zesty_burrow.core.outside.reach import KEY, MOST
from zesty_burrow.errors import RightsMissing, StateError, UsageError
from zesty_burrow.host.guard.plan import Share
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.observe.applications.reach import read_targets, try_to_reach
from zesty_burrow.observe.channel import ObservatoryAddress
from zesty_burrow.observe.client import Observer, nothing_observed, require_reached
from zesty_burrow.profiles.text import read_profile
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.store.verifications.run_store import ObservationRow
from zesty_burrow.use_cases.observatories import observatories
from zesty_burrow.use_cases.tunnel.guard import probed
from zesty_burrow.use_cases.tunnel.running import running_tunnels
from zesty_burrow.use_cases.tunnel.status import (
    guard_findings,
    guard_state,
    judge_negotiated,
    look_at_guard,
    noticed,
)
from zesty_burrow.use_cases.verification import ways_out
from zesty_burrow.use_cases.verification.history import keep_run
from zesty_burrow.use_cases.verification.names import read_names
from zesty_burrow.use_cases.verification.verified import Verified
from zesty_burrow.use_cases.workspace import Workspace


@dataclass(frozen=True, slots=True)
class VerifyRequest:
    """``before``: without a tunnel, to compare with later. ``observatory``: URL, empty: from the settings.

    ``extended``: look up 36 one-time names instead of 6. ``watch``: seconds for which packets are watched at least;
    ``capture``: a file for those that nothing explains. ``environment``: of the programs
    whose proxies are looked at. ``reach``: hosts, with a port or without, that are to be reached.
    """

    before: bool = False
    observatory: str = ""
    extended: bool = False
    watch: float = 0.0
    capture: Path | None = None
    environment: Mapping[str, str] = field(default_factory=dict)
    reach: tuple[str, ...] = ()


def verify(request: VerifyRequest, workspace: Workspace) -> Verified:
    """Look at this machine, observe what the outside sees, and judge both against what the profiles say.

    Raises :class:`UsageError` for ``before`` without an observatory, :class:`StateError` for it while a tunnel is up.
    """
    asked = observatories(workspace, request.observatory)
    read_targets(request.reach)
    tunnels = [tunnel.document for tunnel in running_tunnels(workspace) if tunnel.document]
    if request.before:
        return _verify_before(request, workspace, asked, tunnels)
    statuses = [TunnelStatus.of(document) for document in tunnels]
    if not statuses:
        observer = _observer(asked[0], workspace) if asked else None
        observation = observer.observe(extended=request.extended) if observer else nothing_observed()
        facts = Facts(baseline(workspace), observation, _promise(None), no_observatory=observer is None)
        return _judged(facts, statuses, workspace, guard_state(workspace))
    facts, guard = _look(request, workspace, statuses, asked)
    return _judged(facts, statuses, workspace, guard)


def _look(
    request: VerifyRequest,
    workspace: Workspace,
    statuses: Sequence[TunnelStatus],
    asked: Sequence[ObservatoryAddress],
) -> tuple[Facts, GuardState | None]:
    """Everything that is to be judged, with the packet watch over it from the beginning to the end."""
    wanted = (*request.reach, *(target for one in statuses for target in one.reach))
    targets, status = read_targets(wanted), statuses[0]
    guard, share = guard_state(workspace), look_at_guard(workspace).whole
    workspace.interaction.note("  checking the ways out of this machine")
    meaning = ways_out.meaning_of(statuses, guard, share)
    began = time.monotonic()
    with ways_out.Watching(meaning, lambda: ways_out.meaning_now(workspace)) as watching:
        ways, names = ways_out.look(meaning, read_names(request.environment))
        routes = _routes(status, asked[0]) if asked else []
        seen = [_observer(one, workspace).observe(extended=request.extended) for one in asked]
        reached = try_to_reach(targets)
        guard = _probed(guard)
        left = request.watch - (time.monotonic() - began)
        if left > 0:
            workspace.interaction.note(f"  watching packets for {left:.0f} s")
            time.sleep(left)
        watching.stop()
        watched = watching.result()
        if request.capture is not None:
            watching.write(request.capture)
    others = zip(asked[1:], seen[1:], strict=True)
    facts = Facts(
        baseline(workspace),
        seen[0] if seen else nothing_observed(),
        _promise(status),
        tuple(routes),
        ways,
        watched,
        _is_guarded(guard, statuses),
        _guard_evidence(guard),
        tuple(_intent(one, share) for one in statuses),
        not asked,
        names,
        meaning.names,
        (*(one.gateway.lower() for one in statuses), *(one.host for one in asked)),
        tuple((one.host, observation) for one, observation in others),
        reached,
    )
    return facts, guard


def _observer(observatory: ObservatoryAddress, workspace: Workspace) -> Observer:
    return Observer(observatory, lambda what: workspace.interaction.note(f"  checking {what}"))


def _verify_before(
    request: VerifyRequest,
    workspace: Workspace,
    asked: Sequence[ObservatoryAddress],
    tunnels: Sequence[Mapping[str, Any]],
) -> Verified:
    if not asked:
        raise UsageError(
            "no observatory is known, so nobody can look from outside",
            next_step=f'Name one with --observatory URL, or write observatory = "URL" into {workspace.paths.settings}. '
            "Without one, connect and run `zesty verify`: it judges what this machine shows by itself.",
        )
    if tunnels:
        raise StateError(
            f"the tunnel {tunnels[0]['profile']} is up",
            why="a baseline is observed without a tunnel",
            next_step="Disconnect first.",
        )
    observation = _observer(asked[0], workspace).observe(extended=request.extended)
    require_reached(observation, asked[0].host)
    if targets := read_targets((*request.reach, *_wanted_by_profiles(workspace))):
        seen = {row.target: row.is_reached for row in try_to_reach(targets)}
        observation = observation.with_evidence({KEY: seen})
    keep_as_before(observation, workspace)
    return Verified(observation)


def _wanted_by_profiles(workspace: Workspace) -> list[str]:
    """What the stored profiles expect to reach; of many the first."""
    with workspace.layered_store() as layered:
        texts = [text for _, text, _ in layered.profile_texts(layered.list_profiles()) if "reach" in text]
    targets = [target for text in texts for target in read_profile(text, "a stored profile").traffic.reach]
    return list(dict.fromkeys(targets))[:MOST]


def baseline(workspace: Workspace) -> Observation | None:
    """What was seen last without a tunnel."""
    with workspace.store() as store:
        kept = store.runs.latest_observation("before")
    return read_observation(json.loads(kept.document)) if kept else None


def _judged(facts: Facts, statuses: Sequence[TunnelStatus], workspace: Workspace, guard: GuardState | None) -> Verified:
    also = guard_findings(guard)
    for status in statuses:
        also += [*judge_negotiated(status, workspace), *noticed(status)]
    judgement = judge_facts(facts, also)
    profile = statuses[0].profile if statuses else ""
    words = ", ".join(part for part in (facts.promise.city, facts.promise.country) if part)
    seen = Verified(facts.after, judgement, profile, words, facts.before, guard, facts.ways, facts.watch, facts.names)
    return replace(seen, changes=keep_run(seen, statuses, workspace))


def _intent(status: TunnelStatus, share: Share) -> Intent:
    everything = _takes_everything(status)
    local = tuple(dict.fromkeys(str(one.network) for one in share.local if not one.network.is_link_local))
    return Intent(
        status.profile, status.networks, status.left_out, status.ipv6, local if everything else (), status.guarded
    )


def _is_guarded(guard: GuardState | None, statuses: Sequence[TunnelStatus]) -> bool:
    """Whether the guard was seen to hold all that belongs in the tunnels."""
    if guard is None or not guard.in_force:
        return False
    return guard.everything or all(status.guarded for status in statuses)


def _guard_evidence(guard: GuardState | None) -> str:
    """What shows that the guard is in force."""
    if guard is None:
        return ""
    words = f"the kernel's tables, as intended at {guard.at}"
    if guard.probe is None:
        return words
    sent, left = (sum(getattr(row, name) for row in guard.probe.rows) for name in ("sent", "left"))
    return f"{words}; {sent} probes sent by its hooks, {left} left"


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
        store.runs.add_observation(
            ObservationRow(observation.taken_at, "before", "", "", json.dumps(observation.document()))
        )


def _promise(status: TunnelStatus | None) -> ExpectedExit:
    if status is None:
        return ExpectedExit(tunnel_up=False)
    return ExpectedExit(status.country, status.city, status.provider, status.is_up, _takes_everything(status))


def _takes_everything(status: TunnelStatus) -> bool:
    return any(ip_network(network).prefixlen == 0 for network in status.networks)


def _routes(status: TunnelStatus, observatory: ObservatoryAddress) -> list[RouteSeen]:
    """Where the kernel sends what belongs in the tunnel: asked first, as answers prove nothing otherwise.

    Addresses of families that the tunnel does not carry are not looked at: they have no way out.
    """
    versions = {ip_address(one).version for one in status.addresses}
    inside = [network for network in map(ip_network, status.networks) if network.version in versions]
    outside = [ip_network(one) for one in status.left_out]
    wanted = [(f"name server {name_server}", ip_address(name_server)) for name_server in status.name_servers]
    if _takes_everything(status):
        wanted += [(f"observatory {observatory.host}", ip_address(one)) for one in observatory.addresses()]
    wanted += [(f"network {one}", one.network_address + 1) for one in inside if one.prefixlen]
    seens = []
    with Netlink() as netlink:
        for target, address in dict.fromkeys(wanted):
            if any(address in one for one in inside) and not any(address in one for one in outside):
                seens.append(RouteSeen(target, str(address), netlink.device_towards(str(address)), status.device))
    return seens
