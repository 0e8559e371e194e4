"""How rehearsals are shown: a line as each one ends, then the table, what failed and why, and what to take."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.core.finding import Severity
from zesty_burrow.core.outside.observation import Sighting
from zesty_burrow.core.policy.algorithms import TransformType, describe
from zesty_burrow.core.rehearsal import Fitness, Rehearsal, group_failures, recommend
from zesty_burrow.errors import printable
from zesty_burrow.records import replace
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, milliseconds, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.trials import RehearsalResult

STYLES = {Fitness.FIT: "green", Fitness.DOUBTFUL: "yellow", Fitness.FAILED: "bold red"}
WIDEST = max(map(len, Fitness))
NAMES_SHOWN = 6


def line(seen: Rehearsal) -> Text:
    """One result as it comes."""
    words = f"at {seen.failure.step}: {seen.failure.what}" if seen.failure else _exits(seen)
    return Text.assemble(
        "  ",
        (f"{seen.verdict:<{WIDEST}}", STYLES[seen.verdict]),
        "  ",
        (f"{seen.profile:<26}", "bold"),
        "  ",
        printable(words),
    )


def rehearsal_table(result: RehearsalResult) -> Parts:
    count = len(result.rehearsals)
    yield ""
    yield heading(f"Rehearsal of {plural(count, 'profile')}")
    if result.interrupted:
        yield Text(f"Interrupted: {result.wanted - count} of {result.wanted} were not rehearsed.", style="yellow")
    mixed = len({rehearsal.over for rehearsal in result.rehearsals}) > 1
    over = ("over",) if mixed else ()
    labels = ("verdict", "profile", *over, "reached", "time", "round trip", "cipher", "bits", "exit")
    figures = ("time", "round trip", "bits")
    table = Table(*(Column(label, whole=label != "exit", right=label in figures) for label in labels))
    for rehearsal in result.rehearsals:
        table.add_row(
            Text(rehearsal.verdict, style=STYLES[rehearsal.verdict]),
            Text(rehearsal.profile),
            *((rehearsal.over,) if mixed else ()),
            Text(rehearsal.steps[-1].step if rehearsal.steps else "nothing"),
            milliseconds(rehearsal.seconds) if rehearsal.steps else "",
            milliseconds(rehearsal.round_trip) if rehearsal.round_trip else "",
            _cipher(rehearsal),
            str(rehearsal.strength) if rehearsal.suites else "",
            Text(printable(_exits(rehearsal) if not rehearsal.failure else "")),
        )
    yield Indented(table)
    yield from _doubts(result)
    yield from _failures(result)
    yield from _recommendation(result)


def _cipher(rehearsal: Rehearsal) -> str:
    """The cipher of the packets, which is negotiated last; without the prefix that all of them have."""
    suite = next(reversed(list(rehearsal.suites.values())), None)
    return describe(TransformType.ENCR, suite.encryption, suite.key_bits).removeprefix("ENCR_") if suite else ""


def _exits(rehearsal: Rehearsal) -> str:
    if not rehearsal.exit_checked:
        return "not checked"
    if not rehearsal.carries_outside:
        return "only its own networks"
    seen = [sighting for sighting in (rehearsal.exit4, rehearsal.exit6) if sighting.address]
    if not seen:
        return "no address was seen"
    same = len({(entry.operator, entry.place) for entry in seen}) == 1
    if same:
        return f"{_where(seen[0])}: {', '.join(entry.address for entry in seen)}"
    return "; ".join(f"{_where(entry)}: {entry.address}" for entry in seen)


def _where(seen: Sighting) -> str:
    return ", ".join(part for part in (seen.place, seen.operator) if part) or "location unknown"


def _doubts(result: RehearsalResult) -> Parts:
    serious = [
        # Of many profiles it matters first whose doubt it is.
        replace(entry, subject=rehearsal.profile, detail=entry.detail)
        for rehearsal in result.rehearsals
        if rehearsal.verdict is Fitness.DOUBTFUL
        for entry in rehearsal.findings
        if entry.severity is not Severity.NOTE
    ]
    serious = list(dict.fromkeys(serious))
    if serious:
        yield ""
        yield heading("Doubts")
        yield from findings_table(serious)


def _failures(result: RehearsalResult) -> Parts:
    groups = group_failures(result.rehearsals)
    if not groups:
        return
    yield ""
    yield heading("Failures, each cause once")
    table = Table(Column(whole=True, style="bold"), Column())
    for group in groups:
        shown = ", ".join(group.profiles[:NAMES_SHOWN])
        more = f" and {len(group.profiles) - NAMES_SHOWN} more" if len(group.profiles) > NAMES_SHOWN else ""
        table.add_row(group.failure.step, Text(f"{group.failure.what}  ({group.failure.code})", style="red"))
        if group.failure.why:
            table.add_row("", Text(f"why: {group.failure.why}"))
        table.add_row("", Text(f"next: {group.failure.next_step}"))
        table.add_row("", Text(f"{plural(len(group.profiles), 'profile')}: {shown}{more}", style="dim"))
    yield Indented(table)


def _recommendation(result: RehearsalResult) -> Parts:
    best = recommend(result.rehearsals)
    if not best:
        return
    yield ""
    yield heading("Recommended")
    table = Table(Column(whole=True, style="dim"), Column(whole=True, style="bold"), Column())
    for choice, one in best.items():
        why = {
            "nearest": f"{milliseconds(one.round_trip)} round trip",
            "fastest": f"up after {milliseconds(one.seconds)}",
            "strongest": f"{one.strength} bits for its weakest algorithm",
        }[choice]
        table.add_row(choice, one.profile, f"{one.place}; {why}")
    yield Indented(table)
    yield Text("  `zesty connect nearest` (or fastest, strongest) uses this result.", style="dim")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {RehearsalResult: rehearsal_table}
