"""``zesty status``: whether a tunnel is up."""

from __future__ import annotations

from argparse import ArgumentParser, Namespace
from typing import TYPE_CHECKING, Any

from zesty_burrow.commands.context import Context
from zesty_burrow.commands.tunnel.running import Running, running_tunnels
from zesty_burrow.errors import MachineError, NotFound, UsageError
from zesty_burrow.host.journal.lock import is_left_over
from zesty_burrow.host.paths import TunnelPaths, machine_paths
from zesty_burrow.report.results.status import SILENT, WORST, Condition, LineResult, StatusResult

if TYPE_CHECKING:
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.finding import Finding
    from zesty_burrow.host.guard.state import GuardState
    from zesty_burrow.report.results.base import Result

EXAMPLE = "zesty status"


def add_arguments(parser: ArgumentParser) -> None:
    """The command's words."""
    parser.add_argument("name", nargs="?", help="one tunnel alone: its profile, or the place of its exit")
    parser.add_argument(
        "--log", action="store_true", help="also show the log of the last tunnel that was brought up with --detach"
    )
    parser.add_argument(
        "--watch", action="store_true", help="draw it again and again, with the rates in both directions; q leaves"
    )
    parser.add_argument("--every", type=float, default=1.0, metavar="SECONDS", help="of --watch (1)")
    parser.add_argument("--line", action="store_true", help="one plain line, for a status bar or a prompt")
    parser.add_argument(
        "--network", action="store_true", help="also show this machine's addresses, routes, rules and name servers"
    )


def run(args: Namespace, context: Context) -> Result:
    """Once, in one line, or again and again until a key is pressed."""
    if args.every <= 0:
        raise UsageError(f"--every {args.every:g} is not a time")
    if args.watch:
        return _watch(args, context)
    result = look(args, context)
    if args.line:
        from zesty_burrow.report.live import one_line

        return LineResult(one_line(result), result.exit_code)
    return result


def _watch(args: Namespace, context: Context) -> Result:
    import time

    from zesty_burrow.report.live import Rates, live_view
    from zesty_burrow.report.screen import Screen

    rates = Rates()
    with Screen() as screen:
        while True:
            result = look(args, context)
            if result.tunnel is not None:
                rates.add(time.monotonic(), result.tunnel.octets_in, result.tunnel.octets_out)
            screen.draw(live_view(result, rates))
            if screen.key(args.every) in ("q", "Q"):
                return result


def look(args: Namespace, context: Context) -> StatusResult:
    """Ask the tunnels' processes, and look for what dead ones left."""
    running = [one for one in running_tunnels(context) if not args.name or one.is_called(args.name)]
    if args.name and not running:
        raise NotFound(f"no tunnel is called {args.name!r}", next_step="See `zesty status`.")
    left_over = any(is_left_over(paths.journal) for paths in context.paths.tunnels)
    guard = guard_state(context)
    findings: list[Finding] = []
    if left_over:
        from zesty_burrow.core.finding import finding

        findings.append(finding("left-over", "this machine"))
    findings += guard_findings(guard)
    network = None
    if args.network:
        from zesty_burrow.host.snapshot import snapshot

        network = snapshot()
    tunnels = [_tunnel(one.document) for one in running if one.document]
    for silent in [one for one in running if one.state == SILENT]:
        findings.append(_silent(silent))
    for tunnel in tunnels:
        findings += noticed(tunnel)
        findings += judge_negotiated(tunnel, context)
    log = _log(running[0].paths if running else context.paths.tunnels[0]) if args.log else None
    conditions = [Condition.LEFT_OVER] if left_over else [_condition(one) for one in tunnels]
    if not conditions:
        conditions = [Condition.BLOCKED if guard is not None and guard.shares else Condition.DOWN]
    return StatusResult(
        tunnels[0] if tunnels else None,
        running[0].state if running else "",
        max(conditions, key=WORST.index),
        guard,
        tuple(findings),
        network,
        log,
        tuple(tunnels[1:]),
    )


def _silent(running: Running) -> Finding:
    from zesty_burrow.core.finding import finding

    return finding("tunnel-silent", running.profile or str(running.paths.control))


def _condition(tunnel: TunnelStatus) -> Condition:
    if not tunnel.is_up:
        return Condition.BLOCKED
    return Condition.PARTIAL if tunnel.is_partial else Condition.UP


def guard_state(context: Context) -> GuardState | None:
    """The guard as it is now; None where it was looked at, and there is none."""
    if _has_none(context):
        return None
    state = look_at_guard(context)
    from zesty_burrow.host.guard.state import Measured

    return None if state.measured is Measured.ABSENT and not state.record_damaged else state


def _has_none(context: Context) -> bool:
    """Whether a short look shows that there is no guard."""
    from zesty_burrow.host.guard.owner.wire import socket_of
    from zesty_burrow.host.guard.presence import is_in_force

    record = context.paths.guard
    try:
        return not (record.exists() or socket_of(record).exists() or is_in_force())
    except MachineError:
        return False


def look_at_guard(context: Context) -> GuardState:
    """The guard as it is now: this user's, or where that is not known, or of nobody known, the machine's."""
    from zesty_burrow.host.guard.guard import Guard
    from zesty_burrow.host.guard.state import Measured, ServiceState

    state = Guard(context.paths.guard).state()
    machine = machine_paths(context.environment)
    if state.shares or state.measured is Measured.ABSENT or machine.guard == context.paths.guard:
        return state
    other = Guard(machine.guard).state()
    return other if other.service in (ServiceState.OTHER_USER, ServiceState.ANSWERS) else state


def guard_findings(guard: GuardState | None) -> list[Finding]:
    """What there is to say about the guard as it was seen."""
    if guard is None:
        return []
    from zesty_burrow.host.guard.judge import judge_guard

    return judge_guard(guard)


def _log(paths: TunnelPaths) -> tuple[dict[str, Any], ...]:
    from zesty_burrow.carrier.control.log_lines import read_lines

    try:
        return tuple(read_lines(paths.log.read_text("utf-8", "replace")))
    except FileNotFoundError:
        return ()


def _tunnel(document: dict[str, Any]) -> TunnelStatus:
    from zesty_burrow.carrier.control.status import TunnelStatus

    return TunnelStatus.of(document)


def noticed(tunnel: TunnelStatus) -> list[Finding]:
    """What the tunnel's process has noticed."""
    from zesty_burrow.core.finding import finding

    return [finding(*row) for row in tunnel.findings]


def judge_negotiated(tunnel: TunnelStatus, context: Context) -> list[Finding]:
    """What was really agreed on with the gateway, by the policy as it is now."""
    from zesty_burrow.core.policy.policy import judge_suite
    from zesty_burrow.core.policy.suite import Suite

    policy = context.policy()
    rows = tunnel.suites.items()
    return [one for label, parts in rows for one in judge_suite(policy, Suite(**parts), label)]
