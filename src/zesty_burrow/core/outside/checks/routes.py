"""Where the kernel sends packets that belong in the tunnel."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Facts

CODES = (
    Code("route-outside", Severity.SERIOUS, "The kernel sends packets that belong in the tunnel by another device.",
         "Whatever answers there can claim anything: the observation proves nothing.",
         "Look for routes and rules of others (`zesty status`), then connect again."),
)  # fmt: skip


def _judge(facts: Facts) -> Iterator[Finding]:
    if facts.ways is not None and facts.ways.is_decided:
        # The map knows more: also whether something stops them.
        return
    for route in facts.routes:
        if route.device != route.tunnel:
            seen = f"{route.address} by {route.device or 'no device'}, not by {route.tunnel}"
            yield finding("route-outside", route.target, seen)


CHECK = Check("routes", CODES, judge=_judge)
