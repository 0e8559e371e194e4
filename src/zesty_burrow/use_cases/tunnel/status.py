"""Whether a tunnel is up, and what the guard lets through, as they are now."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import MachineError, NotFound
from zesty_burrow.host.journal.lock import is_left_over
from zesty_burrow.records import dataclass
from zesty_burrow.use_cases.tunnel.running import SILENT, Running, running_tunnels

if TYPE_CHECKING:
    # Types alone: `status`, which scripts call often, must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.core.finding import Finding
    from zesty_burrow.host.guard.state import GuardState
    from zesty_burrow.host.paths import TunnelPaths
    from zesty_burrow.use_cases.workspace import Workspace


class Condition(StrEnum):
    """How it stands, in one word."""

    UP = "up"
    PARTIAL = "partial"
    BLOCKED = "blocked"
    DOWN = "down"
    LEFT_OVER = "left over"


WORST = (Condition.UP, Condition.PARTIAL, Condition.DOWN, Condition.BLOCKED, Condition.LEFT_OVER)
"""From the best to the worst: of several tunnels the worst counts."""


@dataclass(frozen=True, slots=True)
class StatusRequest:
    """``name``: one tunnel alone. ``network``: also this machine's addresses, routes, rules and name servers.

    ``log``: also the log of the last tunnel that was detached.
    """

    name: str = ""
    network: bool = False
    log: bool = False


@dataclass(frozen=True, slots=True)
class StatusSeen:
    """``tunnel``: None if all are down; ``others``: tunnels beside it. ``state``: of its process, empty without one.

    ``guard``: None if nobody holds it closed. ``network`` and ``log``: only if they were asked for.
    """

    tunnel: TunnelStatus | None
    state: str
    condition: Condition
    guard: GuardState | None = None
    findings: tuple[Finding, ...] = ()
    network: tuple[str, ...] | None = None
    log: tuple[dict[str, Any], ...] | None = None
    others: tuple[TunnelStatus, ...] = ()


def _left_over(is_there: bool) -> list[Finding]:
    if not is_there:
        return []
    from zesty_burrow.core.finding import finding

    return [finding("left-over", "this machine")]


def _tunnel_findings(
    running: Sequence[Running], tunnels: Sequence[TunnelStatus], workspace: Workspace
) -> list[Finding]:
    findings = [_silent(tunnel) for tunnel in running if tunnel.state == SILENT]
    for tunnel in tunnels:
        findings += noticed(tunnel)
        findings += judge_negotiated(tunnel, workspace)
    return findings


def look(request: StatusRequest, workspace: Workspace) -> StatusSeen:
    """Ask the tunnels' processes, look at the guard and for what dead processes left. Raises :class:`NotFound`."""
    name = request.name
    everyone = running_tunnels(workspace)
    running = [tunnel for tunnel in everyone if tunnel.is_called(name)] if name else everyone
    if name and not running:
        raise not_up(name, everyone)
    left_over = any(is_left_over(paths.journal) for paths in workspace.paths.tunnels)
    guard = guard_state(workspace)
    network = None
    if request.network:
        from zesty_burrow.host.snapshot import snapshot

        network = snapshot()
    tunnels = [_tunnel(one.document) for one in running if one.document]
    findings = [*_left_over(left_over), *guard_findings(guard), *_tunnel_findings(running, tunnels, workspace)]
    log = _log(running[0].paths if running else workspace.paths.tunnels[0]) if request.log else None
    conditions = [Condition.LEFT_OVER] if left_over else [_condition(one) for one in tunnels]
    if not conditions:
        conditions = [Condition.BLOCKED if guard is not None and guard.shares else Condition.DOWN]
    return StatusSeen(
        tunnels[0] if tunnels else None,
        running[0].state if running else "",
        max(conditions, key=WORST.index),
        guard,
        tuple(findings),
        network,
        log,
        tuple(tunnels[1:]),
    )


def not_up(name: str, running: Sequence[Running]) -> NotFound:
    """The error for a word that names no tunnel."""
    known = [tunnel.profile for tunnel in running]
    step = f"Up: {', '.join(known)}." if known else "None is up; see `zesty list` for what can be connected."
    return NotFound(f"no tunnel is called {name!r}", next_step=step).meaning(name, known)


def _silent(running: Running) -> Finding:
    from zesty_burrow.core.finding import finding

    return finding("tunnel-silent", running.profile or str(running.paths.control))


def _condition(tunnel: TunnelStatus) -> Condition:
    if not tunnel.is_up:
        return Condition.BLOCKED
    return Condition.PARTIAL if tunnel.is_partial else Condition.UP


def guard_state(workspace: Workspace) -> GuardState | None:
    """The guard as it is now; None if a look has shown that no guard exists."""
    if _has_none(workspace):
        return None
    state = look_at_guard(workspace)
    from zesty_burrow.host.guard.state import Measured

    return None if state.measured is Measured.ABSENT and not state.record_damaged else state


def _has_none(workspace: Workspace) -> bool:
    """Whether a short look shows that there is no guard."""
    from zesty_burrow.host.guard.owner.wire import socket_of
    from zesty_burrow.host.guard.presence import is_in_force

    record = workspace.paths.guard
    try:
        return not (record.exists() or socket_of(record).exists() or is_in_force())
    except MachineError:
        return False


def look_at_guard(workspace: Workspace) -> GuardState:
    """The guard as it is now: this user's, or where that is not known, or of nobody known, the machine's."""
    from zesty_burrow.host.guard.guard import Guard
    from zesty_burrow.host.guard.state import Measured, ServiceState

    state = Guard(workspace.paths.guard).state()
    machine = workspace.machine
    if state.shares or state.measured is Measured.ABSENT or machine.guard == workspace.paths.guard:
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

    rows = [finding(*row) for row in tunnel.findings]
    if tunnel.watch.get("packets"):
        seen = "; ".join(tunnel.watch["seen"])
        rows.append(finding("left-beside", tunnel.profile, f"{tunnel.watch['packets']} packets: {seen}"))
    return rows


def judge_negotiated(tunnel: TunnelStatus, workspace: Workspace) -> list[Finding]:
    """What was really agreed on with the gateway, by the policy as it is now."""
    from zesty_burrow.core.policy.policy import judge_suite
    from zesty_burrow.core.policy.suite import Suite

    policy = workspace.policy()
    rows = tunnel.suites.items()
    return [one for label, parts in rows for one in judge_suite(policy, Suite(**parts), label)]
