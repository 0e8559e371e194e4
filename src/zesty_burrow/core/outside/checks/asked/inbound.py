"""What the outside can reach of this machine: the observatory connects back to the address that it sees."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.versions import both, by_version
from zesty_burrow.core.outside.checks.check import Check, Evidence, Facts, Questions, Row
from zesty_burrow.core.outside.observation import Observation

KEY = "inbound"
OPEN, WORDS = "open", {"open": "arrive here", "elsewhere": "arrive at another host", "closed": "do not arrive"}
MOST_PORTS = 20
CODES = (
    Code("inbound-open", Severity.WARNING, "Connections from outside arrive at this machine through the tunnel.",
         "Everybody who knows the exit's address can use what listens here.",
         "Let a firewall of this machine refuse what comes in by the tunnel's device, or end what listens."),
)  # fmt: skip


def _ask(questions: Questions, _seen: Observation) -> Evidence:
    if questions.about.get("inbound") is not True:
        return {}
    seen = {}
    for version, state in both(questions, questions.inbound).items():
        if state in WORDS:
            ports = questions.listening(version)[:MOST_PORTS] if state == OPEN else []
            seen[str(version)] = {"state": state, "listening": ports}
    return {KEY: seen}


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.is_whole:
        return
    for label, row in by_version(facts.after, KEY):
        if row["state"] == OPEN:
            ports = ", ".join(map(str, row["listening"]))
            yield finding("inbound-open", label, f"TCP ports that listen: {ports}" if ports else "nothing listens now")


def _rows(before: Observation, after: Observation) -> Iterator[Row]:
    old, new = (dict(by_version(side, KEY)) for side in (before, after))
    for label in ("IPv4", "IPv6"):
        if label in old or label in new:
            words = [WORDS[side[label]["state"]] if label in side else "unknown" for side in (old, new)]
            yield f"{label} from outside", words[0], words[1]


CHECK = Check("inbound", CODES, judge=_judge, looks_at="what the outside can reach here", ask=_ask, rows=_rows)
