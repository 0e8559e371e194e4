"""``zesty verify``: observe what the outside sees, and judge."""

from __future__ import annotations

import json
import socket
from argparse import ArgumentParser, Namespace
from contextlib import suppress
from dataclasses import asdict
from ipaddress import ip_address, ip_network
from typing import Any

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.guard import probed
from zesty_burrow.commands.tunnel.running import running_tunnels
from zesty_burrow.commands.tunnel.status import guard_findings, guard_state, judge_negotiated, noticed
from zesty_burrow.core.outside.leak import ExpectedExit, Observation, RouteSeen, Sighting, judge
from zesty_burrow.errors import RightsMissing, StateError, UsageError
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.host.netlink import Netlink
from zesty_burrow.observe.client import ObservatoryAddress, Observer, require_reached
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import BaselineResult, VerifyResult
from zesty_burrow.store.store import ObservationRow

EXAMPLE = "zesty verify --before; zesty connect lisbon --detach; zesty verify"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("--before", action="store_true", help="observe without a tunnel, to compare with later")
    parser.add_argument("--observatory", default="", metavar="URL", help="http://HOST[:PORT] (from the settings file)")
    parser.add_argument("--extended", action="store_true", help="look up 36 one-time names instead of 6")


def run(args: Namespace, context: Context) -> Result:
    """One observation; without ``--before`` it is judged against the latest one from before."""
    url = args.observatory or context.settings().observatory
    if not url:
        raise UsageError(
            "no observatory is known",
            next_step=f'Name one with --observatory URL, or write observatory = "URL" into {context.paths.settings}.',
        )
    observer = Observer(ObservatoryAddress.of(url), lambda what: context.reporter.note(f"  checking {what}"))
    tunnel = next((one.document for one in running_tunnels(context) if one.document), None)
    if args.before and tunnel:
        raise StateError(
            f"the tunnel {tunnel['profile']} is up",
            why="a baseline is observed without a tunnel",
            next_step="Disconnect first.",
        )
    status = TunnelStatus.of(tunnel) if tunnel else None
    routes = _routes(status, ObservatoryAddress.of(url).host) if status else []
    observation = observer.observe(extended=args.extended)
    if args.before:
        require_reached(observation, url)
        keep_as_before(observation, context)
        return BaselineResult(observation)
    with context.store() as store:
        kept = store.latest_observation("before")
        before = _observation(json.loads(kept.document)) if kept else None
        promise = _promise(status)
        judgement = judge(before, observation, promise, routes)
        guard = _probed(guard_state(context))
        also = guard_findings(guard)
        if status:
            also += [*judge_negotiated(status, context), *noticed(status)]
        judgement = judgement.also(also)
        profile = str(tunnel["profile"]) if tunnel else ""
        store.add_observation(_row(observation, "after", profile, str(judgement.verdict)))
    words = ", ".join(part for part in (promise.city, promise.country) if part)
    return VerifyResult(profile, words, before, observation, judgement, guard)


def _probed(guard: GuardState | None) -> GuardState | None:
    """With probes of our own against the guard, as far as this user may send them."""
    if guard is None or not guard.everything:
        return guard
    with suppress(RightsMissing):
        return probed(guard)
    return guard


def keep_as_before(observation: Observation, context: Context) -> None:
    """To compare with later: what is seen without a tunnel."""
    with context.store() as store:
        store.add_observation(_row(observation, "before", "", ""))


def _promise(status: TunnelStatus | None) -> ExpectedExit:
    if status is None:
        return ExpectedExit(tunnel_up=False)
    return ExpectedExit(status.country, status.city, status.provider, status.is_up, _takes_everything(status))


def _takes_everything(status: TunnelStatus) -> bool:
    return any(ip_network(one).prefixlen == 0 for one in status.networks)


def _routes(status: TunnelStatus, observatory: str) -> list[RouteSeen]:
    """Where the kernel sends what belongs in the tunnel: asked first, as answers prove nothing otherwise.

    Addresses of families that the tunnel does not carry are not looked at: they have no way out.
    """
    versions = {ip_address(one).version for one in status.addresses}
    inside = [network for network in map(ip_network, status.networks) if network.version in versions]
    outside = [ip_network(one) for one in status.left_out]
    wanted = [(f"name server {one}", ip_address(one)) for one in status.name_servers]
    if _takes_everything(status):
        with suppress(OSError):
            rows = socket.getaddrinfo(observatory, 80, type=socket.SOCK_STREAM)
            wanted += [(f"observatory {observatory}", ip_address(str(row[4][0]))) for row in rows]
    wanted += [(f"network {one}", one.network_address + 1) for one in inside if one.prefixlen]
    found = []
    with Netlink() as netlink:
        for target, address in dict.fromkeys(wanted):
            if any(address in one for one in inside) and not any(address in one for one in outside):
                found.append(RouteSeen(target, str(address), netlink.device_towards(str(address)), status.device))
    return found


def _row(observation: Observation, role: str, profile: str, verdict: str) -> ObservationRow:
    return ObservationRow(observation.taken_at, role, profile, verdict, json.dumps(asdict(observation)))


def _observation(document: dict[str, Any]) -> Observation:
    """An observation as the store kept it."""
    values = dict(document)
    for key in ("ipv4", "ipv6"):
        values[key] = Sighting(**values[key])
    for key in ("real_time", "resolvers"):
        values[key] = tuple(Sighting(**entry) for entry in values[key])
    return Observation(**values)
