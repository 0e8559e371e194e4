"""Several observatories of different operators: whether they saw the same."""

from __future__ import annotations

from collections.abc import Iterator

from zesty_burrow.core.codes.code import Code, Severity
from zesty_burrow.core.finding import Finding, finding
from zesty_burrow.core.outside.checks.asked.resolvers import judge_resolvers
from zesty_burrow.core.outside.checks.check import Check, Facts
from zesty_burrow.records import replace

CODES = (
    Code("observatories-differ", Severity.WARNING, "Two observatories saw different things.",
         "One of them errs or lies, or traffic to them goes different ways.",
         "Ask a third one; look at the routes to both (`zesty verify` names every way out)."),
    Code("observatories-agree", Severity.NOTE, "All observatories saw the same addresses.", "", "Nothing to do."),
    Code("observatory-missing", Severity.WARNING, "One of several observatories did not answer.",
         "It could not confirm what the others saw.", "Check that it is running."),
)  # fmt: skip


def _judge(facts: Facts) -> Iterator[Finding]:
    if not facts.after.reached or not facts.others:
        return
    own = str(facts.after.more.get("observatory", "the first"))
    agreeing = [own]
    for name, seen in facts.others:
        if not seen.reached:
            yield finding("observatory-missing", name, str(seen.more.get("unproven", "")))
            continue
        differing = [
            f"{family}: {one.address or 'none'} by {own}, {other.address or 'none'} by {name}"
            for family, one, other in (
                ("IPv4", facts.after.ipv4, seen.ipv4),
                ("IPv6", facts.after.ipv6, seen.ipv6),
            )
            if one.address != other.address
        ]
        if differing:
            yield finding("observatories-differ", name, "; ".join(differing))
        else:
            agreeing.append(name)
        if facts.is_whole:
            # Its names lie in another zone, and may be asked for by others.
            told = judge_resolvers(replace(facts, after=seen))
            yield from (entry for entry in told if entry.code.slug == "dns-leak")
    if len(agreeing) > 1:
        yield finding("observatories-agree", ", ".join(agreeing))


CHECK = Check("several", CODES, frozenset({"observatories-differ"}), judge=_judge)
