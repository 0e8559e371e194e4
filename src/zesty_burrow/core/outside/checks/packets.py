"""The packet watch: what left by the outer devices while it looked, and nothing explains."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.check import Check, Facts

CODES = (
    Code("seen-beside", Severity.SERIOUS, "Packets that belong in the tunnel were seen to leave beside it.",
         "Anybody on the way reads what they hold, and that they come from you.",
         "Find out what the named program sends; the guard stops it: `zesty connect` without --no-guard."),
    Code("watch-lost", Severity.WARNING, "The kernel dropped captures of the packet watch.",
         "There was more that nothing explains than could be read, or the machine is overloaded.",
         "Run `zesty verify` again."),
    Code("watch-blind", Severity.WARNING, "The packets that leave could not be watched.",
         "Whether something left beside the tunnel was not seen.", "Run `zesty verify` as root."),
    Code("watch-clean", Severity.NOTE, "Every packet that left was the tunnel's own, or is meant to leave.", "",
         "Nothing to do."),
)  # fmt: skip
SHOWN = 8


def _judge(facts: Facts) -> Iterator[Finding]:
    seen = facts.watch
    if seen is None or not facts.promise.tunnel_up:
        return
    if seen.blind:
        yield finding("watch-blind", "this machine", seen.blind)
        return
    for row in seen.unexplained[:SHOWN]:
        yield finding("seen-beside", row.device, row.words)
    if len(seen.unexplained) > SHOWN:
        yield finding("seen-beside", "others", f"{len(seen.unexplained) - SHOWN} more senders or places")
    if seen.lost:
        yield finding("watch-lost", ", ".join(seen.devices), f"{seen.lost} captures")
    elif not seen.unexplained:
        words = f"{seen.seconds:.1f} s by {', '.join(seen.devices) or 'no outer device'}, since {seen.since}"
        yield finding("watch-clean", "outer devices", words)


CHECK = Check("packets", CODES, frozenset({"watch-lost", "watch-blind"}), judge=_judge)
