"""What the outside sees, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.core.outside.leak import Observation, Sighting, Verdict
from zesty_burrow.errors import printable
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.verification import BaselineResult, ReadyResult, VerifyResult
from zesty_burrow.report.texts.status import guard_words, probe_words

VERDICT_STYLES = {Verdict.SEALED: "bold green", Verdict.LEAKING: "bold red", Verdict.UNCLEAR: "bold yellow"}
VERDICT_WORDS = {
    Verdict.SEALED: "SEALED: the outside sees the tunnel's exit and nothing else.",
    Verdict.LEAKING: "LEAKING: not everything leaves as the profile says.",
    Verdict.UNCLEAR: "UNCLEAR: the observations are not enough for a verdict.",
}
IPV6_WORDS = {
    "tunnel": "through the tunnel, blocked if the gateway carries none",
    "block": "blocked while the tunnel is up",
    "outside": "left outside the tunnel",
}


def _sighting(seen: Sighting, *, none: str = "none") -> str:
    return seen.address or none


def _describe(seen: Sighting) -> str:
    known = ", ".join(part for part in (seen.operator, seen.place) if part)
    return f"{seen.address} ({known})" if known else seen.address


def _observation_rows(before: Observation | None, after: Observation) -> list[tuple[str, str, str]]:
    old = before or Observation("")
    rows = [("taken", old.taken_at or "never", after.taken_at)]
    for label, one, two in (("IPv4", old.ipv4, after.ipv4), ("IPv6", old.ipv6, after.ipv6)):
        rows.append((f"{label} address", _sighting(one), _sighting(two)))
        if one.address or two.address:
            rows.append(("  operator", one.operator, two.operator))
            rows.append(("  place", one.place, two.place))
    for index in range(max(len(old.resolvers), len(after.resolvers), 1)):
        cells = [_describe(side[index]) if index < len(side) else "" for side in (old.resolvers, after.resolvers)]
        rows.append(("resolvers" if index == 0 else "", *cells))  # type: ignore[arg-type]
    for index in range(max(len(old.real_time), len(after.real_time), 1)):
        cells = [_sighting(side[index]) if index < len(side) else "" for side in (old.real_time, after.real_time)]
        rows.append(("real-time (STUN)" if index == 0 else "", *cells))  # type: ignore[arg-type]
    rows.append(
        (
            "names answered",
            f"{old.names_answered} of {old.names_asked}",
            f"{after.names_answered} of {after.names_asked}",
        )
    )
    return rows


def _verification(result: VerifyResult) -> Parts:
    promise = f", which names {result.promise}" if result.promise else ""
    subject = f"profile {result.profile}{promise}" if result.profile else "no tunnel"
    yield heading(f"Verification of {subject}")
    table = Table(Column(style="dim", whole=True), Column("before"), Column("after"), gap=3)
    for row in _observation_rows(result.before, result.after):
        table.add_row(*map(Text, row))
    yield Indented(table)
    if result.profile:
        yield Indented(Text(f"Guard: {guard_words(result.guard) if result.guard else 'none'}."))
        if result.guard and result.guard.probe:
            yield Indented(Text(f"Probes against it: {probe_words(result.guard.probe)}."))
    yield ""
    yield Text(VERDICT_WORDS[result.judgement.verdict], style=VERDICT_STYLES[result.judgement.verdict])
    yield from findings_table(result.judgement.findings)


def _baseline(result: BaselineResult) -> Parts:
    seen = result.observation
    yield heading("What the outside sees before the tunnel")
    table = Table(Column(whole=True, style="dim"), Column())
    table.add_row("IPv4 address", Text(_describe(seen.ipv4) or "none"))
    table.add_row("IPv6 address", Text(_describe(seen.ipv6) or "none"))
    for index, resolver in enumerate(seen.resolvers):
        table.add_row("resolvers" if index == 0 else "", Text(_describe(resolver)))
    yield Indented(table)
    yield Text("Stored. Connect, then run `zesty verify`.")


READY_STYLES = {"ready": "green", "attention": "yellow", "missing": "bold red", "unknown": "dim"}


def _ready(result: ReadyResult) -> Parts:
    yield heading("Is this machine ready for a tunnel?")
    table = Table(Column(whole=True), Column(whole=True, style="bold"), Column())
    for one in result.checks:
        lines = [one["found"]]
        if one["state"] != "ready":
            lines += [one["why"], f"To do: {one['remedy']}" if one["remedy"] else ""]
        words = "\n".join(printable(line) for line in lines if line)
        table.add_row(Text(one["state"], READY_STYLES[one["state"]]), one["name"], Text(words))
    yield Indented(table)
    missing = [one["name"] for one in result.checks if one["state"] == "missing"]
    if missing:
        yield Text(f"Not ready: {', '.join(missing)}.", "bold red")
    elif any(one["state"] == "attention" for one in result.checks):
        yield Text("Ready; some points need attention.", "bold yellow")
    else:
        yield Text("Ready.", "bold green")
    if any(one["command"] for one in result.checks if one["state"] != "ready"):
        yield Text("zesty ready --fix asks about each command and runs it.")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    VerifyResult: _verification,
    BaselineResult: _baseline,
    ReadyResult: _ready,
}
