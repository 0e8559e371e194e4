"""``zesty status``: whether a tunnel is up."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING, Any

from zesty_burrow.carrier.control.control_client import ask
from zesty_burrow.commands.context import Context
from zesty_burrow.host.journal.lock import is_left_over
from zesty_burrow.report.results.status import StatusResult

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.finding import Finding

EXAMPLE = "zesty status"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument(
        "--log", action="store_true", help="also show the log of the last tunnel that was brought up with --detach"
    )
    parser.add_argument(
        "--network", action="store_true", help="also show this machine's addresses, routes, rules and name servers"
    )


def run(args: Namespace, context: Context) -> StatusResult:
    """Ask the tunnel's process, and look for what a dead one left."""
    answer = ask(context.paths.control, "status") or {}
    document = answer.get("status")
    left_over = is_left_over(context.paths.journal)
    findings: list[Finding] = []
    if left_over:
        from zesty_burrow.core.finding import finding

        findings.append(finding("left-over", "this machine"))
    network = None
    if args.network:
        from zesty_burrow.host.snapshot import snapshot

        network = snapshot()
    tunnel = _tunnel(document) if document else None
    if tunnel is not None:
        findings += _noticed(tunnel)
        findings += judge_negotiated(tunnel, context)
    log = _log(context) if args.log else None
    return StatusResult(tunnel, str(answer.get("state", "")), tuple(findings), network, log)


def _log(context: Context) -> tuple[dict[str, Any], ...]:
    from zesty_burrow.carrier.control.log_lines import read_lines

    try:
        return tuple(read_lines(context.paths.log.read_text("utf-8", "replace")))
    except FileNotFoundError:
        return ()


def _tunnel(document: dict[str, Any]) -> TunnelStatus:
    from zesty_burrow.carrier.control.status import TunnelStatus

    return TunnelStatus.of(document)


def _noticed(tunnel: TunnelStatus) -> list[Finding]:
    from zesty_burrow.core.finding import finding

    return [finding(*row) for row in tunnel.findings]


def judge_negotiated(tunnel: TunnelStatus, context: Context) -> list[Finding]:
    """What was really agreed on with the gateway, by the policy as it is now."""
    from zesty_burrow.core.policy.policy import judge_suite
    from zesty_burrow.core.policy.suite import Suite

    policy = context.policy()
    rows = tunnel.suites.items()
    return [one for label, numbers in rows for one in judge_suite(policy, Suite(*numbers), f"{label} SA")]
