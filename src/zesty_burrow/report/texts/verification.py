"""What the outside sees, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.checks.check import Row
from zesty_burrow.core.outside.expectations import Standing
from zesty_burrow.core.outside.judgement import Verdict
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.errors import printable
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import BaselineResult, ReadyResult, VerifyResult
from zesty_burrow.report.texts.status import guard_words, probe_words

VERDICT_STYLES = {Verdict.SEALED: "bold green", Verdict.LEAKING: "bold red", Verdict.UNCLEAR: "bold yellow"}
STANDING_STYLES = {Standing.HELD: "green", Standing.BROKEN: "bold red", Standing.NO_EVIDENCE: "yellow"}
IPV6_WORDS = {
    "tunnel": "through the tunnel, blocked if the gateway carries none",
    "block": "blocked while the tunnel is up",
    "outside": "left outside the tunnel",
}


def _rows(before: Observation | None, after: Observation) -> list[Row]:
    return [row for check in CHECKS for row in check.rows(before or Observation(""), after)]


def _verification(result: VerifyResult) -> Parts:
    promise = f", which names {result.promise}" if result.promise else ""
    subject = f"profile {result.profile}{promise}" if result.profile else "no tunnel"
    yield heading(f"Verification of {subject}")
    table = Table(Column(style="dim", whole=True), Column("before"), Column("after"), gap=3)
    for row in _rows(result.before, result.after):
        table.add_row(*map(Text, row))
    yield Indented(table)
    if result.profile:
        yield Indented(Text(f"Guard: {guard_words(result.guard) if result.guard else 'none'}."))
        if result.guard and result.guard.probe:
            yield Indented(Text(f"Probes against it: {probe_words(result.guard.probe)}."))
    yield ""
    judgement = result.judgement
    if judgement.expectations:
        expected = Table(Column(whole=True), Column(), Column(style="dim"), gap=2)
        for one in judgement.expectations:
            expected.add_row(Text(str(one.standing), STANDING_STYLES[one.standing]), one.what, Text(one.evidence))
        yield Indented(expected)
        yield ""
    verdict = f"{str(judgement.verdict).upper()}: {judgement.headline}."
    yield Text(verdict, style=VERDICT_STYLES[judgement.verdict])
    yield from findings_table(result.judgement.findings)


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
    yield heading("Is this machine ready for a tunnel?")
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


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    VerifyResult: _verification,
    BaselineResult: _baseline,
    ReadyResult: _ready,
}
