"""What the outside sees, as text for people."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from typing import Any

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.checks.check import Row
from zesty_burrow.core.outside.expectations import Standing
from zesty_burrow.core.outside.judgement import Verdict
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.core.outside.runs.record import RunChange
from zesty_burrow.core.outside.transitions import END
from zesty_burrow.errors import printable
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import (
    AuditResult,
    BaselineResult,
    HistoryResult,
    MonitorResult,
    ReadyResult,
    TransitionsResult,
    VerifyResult,
)
from zesty_burrow.report.texts.status import guard_words, probe_words
from zesty_burrow.report.times import local_time
from zesty_burrow.use_cases.verification.history import ChangedRun, CheckedHistory, History

VERDICT_STYLES = {Verdict.SEALED: "bold green", Verdict.LEAKING: "bold red", Verdict.UNCLEAR: "bold yellow"}
STANDING_STYLES = {Standing.HELD: "green", Standing.BROKEN: "bold red", Standing.NO_EVIDENCE: "yellow"}
IPV6_WORDS = {
    "tunnel": "through the tunnel, blocked if the gateway carries none",
    "block": "blocked while the tunnel is up",
    "outside": "left outside the tunnel",
}


def _rows(before: Observation | None, after: Observation) -> list[Row]:
    return [row for check in CHECKS for row in check.rows(before or Observation(""), after)]


EVIDENCE = frozenset(
    {"ways-none-beside", "watch-clean", "address-changed", "exit-as-promised", "dns-inside", "observatories-agree"}
)
"""Codes of findings that only say again what an expectation's evidence says."""


def _verification(result: VerifyResult) -> Parts:
    seen, judgement = result.seen, result.judgement
    promise = f", which names {seen.promised}" if seen.promised else ""
    subject = f"profile {seen.profile}{promise}" if seen.profile else "no tunnel"
    yield heading(f"Verification of {subject}")
    if seen.observation.reached:
        table = Table(Column(style="dim", whole=True), Column("before"), Column("after"), gap=3)
        for row in _rows(seen.before, seen.observation):
            table.add_row(*map(Text, map(local_time, row)))
        yield Indented(table)
    if seen.profile:
        yield Indented(Text(f"Guard: {guard_words(seen.guard) if seen.guard else 'none'}."))
        if seen.guard and seen.guard.probe:
            yield Indented(Text(f"Probes against it: {probe_words(seen.guard.probe)}."))
    yield ""
    if judgement.expectations:
        expected = Table(Column(whole=True), Column(), Column(style="dim"), gap=2)
        several = len({one.tunnel for one in judgement.expectations if one.tunnel}) > 1
        for one in judgement.expectations:
            what = f"{one.tunnel}: {one.what}" if several and one.tunnel else one.what
            expected.add_row(
                Text(str(one.standing), STANDING_STYLES[one.standing]), what, Text(printable(one.evidence))
            )
        yield Indented(expected)
        yield ""
    verdict = f"{str(judgement.verdict).upper()}: {judgement.headline}."
    yield Text(verdict, style=VERDICT_STYLES[judgement.verdict])
    hidden = EVIDENCE if judgement.expectations else frozenset()
    yield from findings_table([entry for entry in judgement.findings if entry.code.slug not in hidden])
    if seen.changes:
        yield Text(f"Since the last run: {'; '.join(change_words(change) for change in seen.changes)}.", "bold")


def change_words(change: RunChange) -> str:
    """A change for people."""
    return printable(f"{change.what}: {change.before} became {change.after}")


def _baseline(result: BaselineResult) -> Parts:
    seen = result.observation
    yield heading("What the outside sees before the tunnel")
    table = Table(Column(whole=True, style="dim"), Column())
    table.add_row("IPv4 address", Text(seen.ipv4.words or "none"))
    table.add_row("IPv6 address", Text(seen.ipv6.words or "none"))
    for index, resolver in enumerate(seen.resolvers):
        table.add_row("resolvers" if index == 0 else "", Text(resolver.words))
    yield Indented(table)
    yield Text("Stored. Connect, then run `zesty verify`.")


READY_STYLES = {"ready": "green", "attention": "yellow", "missing": "bold red", "unknown": "dim"}


def _ready(result: ReadyResult) -> Parts:
    yield heading(result.title)
    table = Table(Column(whole=True), Column(whole=True, style="bold"), Column())
    for check in result.checks:
        lines = [check["found"]]
        if check["state"] != "ready":
            lines += [check["why"], f"To do: {check['remedy']}" if check["remedy"] else ""]
        words = "\n".join(printable(line) for line in lines if line)
        table.add_row(Text(check["state"], READY_STYLES[check["state"]]), check["name"], Text(words))
    yield Indented(table)
    missing = [check["name"] for check in result.checks if check["state"] == "missing"]
    if missing:
        yield Text(f"Not ready: {', '.join(missing)}.", "bold red")
    elif any(check["state"] == "attention" for check in result.checks):
        yield Text("Ready; some points need attention.", "bold yellow")
    else:
        yield Text("Ready.", "bold green")
    if any(check["command"] for check in result.checks if check["state"] != "ready"):
        yield Text("zesty ready --fix asks about each command and runs it.")


def _history(result: HistoryResult) -> Parts:
    if result.checked is not None:
        yield from _checked(result.checked)
    elif result.changed is not None:
        yield from _changed(result.changed)
    elif result.history is not None:
        yield from _runs(result.history)


def _runs(history: History) -> Parts:
    if not history.runs:
        yield Text("No run matches. Make one: zesty verify")
        return
    table = Table(
        Column("taken", whole=True), Column("device"), Column("profile"), Column("from"), Column("verdict", whole=True),
        Column("exits"), Column("round trip"), gap=2,
    )  # fmt: skip
    styles = {str(verdict): style for verdict, style in VERDICT_STYLES.items()}
    for row in history.runs:
        trip = f"{1000 * row.round_trip:.1f} ms" if row.round_trip else ""
        cells = (local_time(row.taken_at), row.device, row.profile or "no tunnel", row.place)
        verdict = Text(row.verdict, styles.get(row.verdict, ""))
        table.add_row(*map(printable, cells), verdict, printable(row.exits), trip)
    yield table
    if history.count > len(history.runs):
        yield Text(f"{len(history.runs)} of {plural(history.count, 'run')}; more with --limit.")


def _changed(rows: tuple[ChangedRun, ...]) -> Parts:
    if not rows:
        yield Text("Nothing has changed from run to run.")
        return
    table = Table(Column("since", whole=True), Column("device"), Column("profile"), Column("what has changed"), gap=2)
    for row in rows:
        words = "\n".join(change_words(change) for change in row.changes)
        table.add_row(
            local_time(row.taken_at), printable(row.device), printable(row.profile or "no tunnel"), Text(words)
        )
    yield table


def _checked(checked: CheckedHistory) -> Parts:
    runs = plural(checked.records, "record")
    for problem in checked.problems:
        yield Text(f"record {problem.number}: {problem.why}", "bold red")
    if checked.foreign:
        yield Text(f"{plural(checked.foreign, 'record')} of other devices, whose keys are not known here.", "yellow")
    if checked.problems:
        yield Text(f"CHANGED: {runs}, {plural(len(checked.problems), 'problem')}.", "bold red")
    else:
        yield Text(f"Whole: {runs}; every signature holds, and each names the one before it.", "bold green")


def _audit(result: AuditResult) -> Parts:
    if result.made is not None:
        made = result.made
        yield Text(f"{made.file}: {plural(made.runs, 'run')}, {plural(made.exceptions, 'exception')}, "
                   f"{plural(made.profiles, 'profile')}, {plural(made.changes, 'change')}.")  # fmt: skip
        yield Text("To check it, one needs this machine's key, by another way than the report itself:")
        yield Text(f"  {made.key}", "bold")
        yield Text(f"  zesty audit --check {made.file.name} --key KEY")
    elif result.checked is not None:
        checked = result.checked
        for problem in checked.problems:
            yield Text(printable(problem), "bold red")
        if checked.problems:
            yield Text(f"CHANGED: {plural(len(checked.problems), 'problem')} in {checked.file}.", "bold red")
        else:
            words = f"Whole: {checked.file}, {plural(checked.runs, 'run')}; every file and record is as it was signed."
            yield Text(words, "bold green")


def _transitions(result: TransitionsResult) -> Parts:
    seen = result.seen
    yield heading(f"What left while the tunnel {seen.profile} changed")
    table = Table(
        Column("moment", whole=True), Column("took", whole=True), Column("asked"), Column("answered"),
        Column("longest silence"), Column("left beside"), Column("seen as"), gap=2,
    )  # fmt: skip
    for moment in seen.moments:
        if moment.not_done:
            table.add_row(moment.name, "not done", "", "", "", "", Text(printable(moment.not_done), "yellow"))
            continue
        left = Text(str(moment.beside), "bold red" if moment.beside else "green")
        table.add_row(
            moment.name, f"{1000 * moment.seconds:.0f} ms", str(moment.sent), str(moment.answered),
            f"{1000 * moment.silence:.0f} ms", left if moment.name != END else "", ", ".join(moment.exits) or "nobody",
        )  # fmt: skip
    yield Indented(table)
    watch = seen.watch
    if watch.blind:
        yield Text(f"UNCLEAR: packets could not be watched: {printable(watch.blind)}.", "bold yellow")
    elif watch.packets:
        for row in watch.unexplained:
            yield Text(printable(row.words), "bold red")
        yield Text(f"LEAKING: {watch.packets} packets left beside the tunnel.", "bold red")
    elif watch.lost:
        yield Text(f"UNCLEAR: the kernel dropped {watch.lost} captures.", "bold yellow")
    else:
        where = ", ".join(watch.devices)
        words = f"Nothing left beside the tunnel in {watch.seconds:.1f} s: every packet by {where} is explained."
        yield Text(words, "bold green")


def _monitor(result: MonitorResult) -> Parts:
    seen = result.seen
    counts = Counter(str(entry.severity) for entry in seen.findings)
    words = ", ".join(f"{count} {severity}" for severity, count in counts.items()) or "nothing needs attention"
    if result.form == "metrics":
        yield Text(seen.metrics().removesuffix("\n"))
        return
    line = f"{str(seen.worst).upper() if seen.findings else 'OK'}: {plural(seen.profiles, 'profile')}; {words}"
    if result.form == "line":
        first = f"; {seen.findings[0].code.slug}: {seen.findings[0].subject}" if seen.findings else ""
        yield Text(printable(line + first))
        return
    yield Text(line, "bold green" if not seen.findings else "bold yellow")
    yield from findings_table(seen.findings)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    VerifyResult: _verification,
    BaselineResult: _baseline,
    ReadyResult: _ready,
    HistoryResult: _history,
    AuditResult: _audit,
    TransitionsResult: _transitions,
    MonitorResult: _monitor,
}
