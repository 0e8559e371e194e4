"""What there is to say about the guard as it was seen: only what was measured, and what is not known."""

from __future__ import annotations

from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.host.guard.probe_result import ProbeResult
from zesty_burrow.host.guard.state import GuardState, Measured, ServiceState

SHOWN_EVENTS = 5


def _of_probe(probe: ProbeResult, holders: str) -> list[Finding]:
    left = [f"{row.kind} by {row.device}" for row in probe.left]
    found = [finding("guard-leaks", holders, ", ".join(left))] if left else []
    return [*found, finding("guard-probe-blind", ", ".join(probe.blind))] if probe.blind else found


def judge_guard(guard: GuardState) -> list[Finding]:
    """Findings about the guard, the worst first."""
    holders = ", ".join(dict.fromkeys(share.what for share in guard.shares.values())) or "the guard"
    findings = _of_probe(guard.probe, holders) if guard.probe is not None else []
    if guard.measured is Measured.MISSING:
        findings.append(finding("guard-missing", holders))
    elif guard.measured is Measured.DIFFERENT:
        findings.append(finding("guard-different", holders, "; ".join(guard.why)))
    elif guard.measured is Measured.UNKNOWN:
        findings.append(finding("guard-unknown", holders, "; ".join(guard.why)))
    if guard.record_damaged:
        findings.append(finding("guard-record-damaged", "the guard's record", guard.record_damaged))
    if guard.service is ServiceState.SILENT:
        process = f"process {guard.process}" if guard.process else "the guard's process"
        findings.append(finding("guard-silent", process))
    if guard.measured in (Measured.AS_INTENDED, Measured.DIFFERENT):
        if guard.without:
            findings.append(finding("guard-device-open", ", ".join(guard.without), guard.why_without))
        if guard.owned is False and guard.service is ServiceState.ANSWERS:
            findings.append(finding("guard-not-owned", holders))
    for event in guard.events[-SHOWN_EVENTS:]:
        by = f", changed by {event.process}" if event.process else ""
        findings.append(finding("guard-restored", event.at, f"{event.what}{by}"))
    waiting = [share.what for share in guard.shares.values() if share.confirm_by]
    findings += [finding("guard-waits", ", ".join(waiting))] if waiting else []
    return findings
