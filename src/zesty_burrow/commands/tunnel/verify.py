"""``zesty verify``: observe what the outside sees, and judge."""

from __future__ import annotations

import json
from argparse import ArgumentParser, Namespace
from dataclasses import asdict, replace
from typing import Any

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.status import judge_negotiated
from zesty_burrow.core.outside.leak import ExpectedExit, Observation, Sighting, judge
from zesty_burrow.errors import StateError, UsageError
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
    tunnel = (ask(context.paths.control, "status") or {}).get("status")
    if args.before and tunnel:
        raise StateError(
            f"the tunnel {tunnel['profile']} is up",
            why="a baseline is observed without a tunnel",
            next_step="Disconnect first.",
        )
    observation = observer.observe(extended=args.extended)
    if args.before:
        require_reached(observation, url)
        with context.store() as store:
            store.add_observation(_row(observation, "before", "", ""))
        return BaselineResult(observation)
    with context.store() as store:
        kept = store.latest_observation("before")
        before = _observation(json.loads(kept.document)) if kept else None
        promise = _promise(tunnel)
        judgement = judge(before, observation, promise)
        if tunnel:
            negotiated = judge_negotiated(TunnelStatus.of(tunnel), context)
            judgement = replace(judgement, findings=(*judgement.findings, *negotiated))
        profile = str(tunnel["profile"]) if tunnel else ""
        store.add_observation(_row(observation, "after", profile, str(judgement.verdict)))
    words = ", ".join(part for part in (promise.city, promise.country) if part)
    return VerifyResult(profile, words, before, observation, judgement)


def _promise(tunnel: dict[str, Any] | None) -> ExpectedExit:
    if not tunnel:
        return ExpectedExit(tunnel_up=False)
    return ExpectedExit(tunnel["country"], tunnel["city"], tunnel["provider"])


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
