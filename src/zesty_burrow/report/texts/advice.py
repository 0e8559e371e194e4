"""How advice is shown: one profile in detail, many as a table."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from zesty_burrow.core.finding import Severity
from zesty_burrow.core.policy.algorithms import TransformType
from zesty_burrow.errors import printable
from zesty_burrow.profiles.advising.advice import Advice
from zesty_burrow.profiles.ways import best_way
from zesty_burrow.protocols.facets.advice import AdviceRow
from zesty_burrow.report.findings import findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, milliseconds
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.trials import AdviceResult

KINDS = {
    TransformType.ENCR: "cipher",
    TransformType.INTEG: "integrity",
    TransformType.PRF: "PRF",
    TransformType.KE: "key exchange",
}


def advice_text(result: AdviceResult) -> Parts:
    if len(result.advice) == 1:
        yield from _in_detail(result, result.advice[0])
    else:
        yield from _matrix(result)


def _suite(advice: Advice, which: str) -> str:
    suite = advice.would if which == "would" else advice.should
    bits = advice.would_bits if which == "would" else advice.should_bits
    if suite is None:
        return "nothing in common" if which == "should" or advice.answered else "not known"
    return f"{suite}  ({bits} bits)"


def _in_detail(result: AdviceResult, advice: Advice) -> Parts:
    yield heading(
        f"Advice for {advice.profile}, {advice.place}"
        if advice.place != advice.profile
        else f"Advice for {advice.profile}"
    )
    facts = Table(Column(whole=True, style="dim"), Column())
    facts.add_row("gateway", Text(printable(advice.gateway) + _told(result, advice)))
    facts.add_row("device", Text(result.device))
    facts.add_row("policy", Text(result.policy))
    facts.add_row("would be", Text(_suite(advice, "would")))
    facts.add_row("should be", Text(_suite(advice, "should"), style="bold"))
    yield Indented(facts)
    yield ""
    yield heading("Why")
    reasons = Table(Column(), Column(whole=True, style="dim"))
    for reason in advice.reasons:
        reasons.add_row(Text(reason.words), reason.source)
    yield Indented(reasons)
    if advice.rows:
        yield ""
        yield heading("What each end can do")
        yield Indented(_abilities(advice))
    yield from _ways(result)
    if advice.obstacles:
        yield ""
        yield heading("Problems")
        for words in advice.obstacles:
            yield Text(f"  {words}", style="bold red")
    if advice.findings:
        yield ""
        yield from findings_table(advice.findings)


def _told(result: AdviceResult, advice: Advice) -> str:
    if not advice.asked:
        return ", not asked"
    if advice.answer is None:
        return "" if advice.answered else f", does not answer: {result.silent.get(advice.profile, '')}"
    trip = f"{advice.answer.round_trip * 1000:.1f} ms"
    return "; ".join([f", answered {advice.answer.questions} questions, fastest {trip}", *advice.answer.extras])


def _abilities(advice: Advice) -> Table:
    labels = ("", "algorithm", "profile", "gateway", "device", "IKE SA", "ESP", "bits", "cost", "policy")
    table = Table(*(Column(label, whole=True, right=label in ("bits", "cost")) for label in labels))
    before = None
    for row in _worth_showing(advice.rows):
        kind = KINDS[TransformType(row.type)]
        good = Text("yes", style="green") if row.good else Text(f"no: {row.why}", style="yellow")
        table.add_row(
            Text("" if kind == before else kind, style="bold"),
            row.name,
            "offers" if row.offered else "",
            {True: "accepts", False: "", None: "?"}[row.gateway],
            "supports" if row.device else "",
            row.ike_status,
            row.esp_status,
            str(row.bits),
            f"{row.cost:.1f}" if row.cost else "",
            good,
        )
        before = kind
    return table


def _ways(result: AdviceResult) -> Parts:
    """The gateway by every protocol and transport, and which of them to take."""
    if not result.ways:
        return
    yield ""
    yield heading("By which protocol")
    best = best_way(result.ways)
    table = Table(*(Column(label, whole=label in ("protocol", "over", "port"), right=label in ("port", "time", "bits"))
                    for label in ("protocol", "over", "port", "time", "bits", "what it has answered")))  # fmt: skip
    for one in result.ways:
        words = one.words if not one.against else f"{one.words}; {one.against}".strip("; ")
        words += "" if one.known else "; not known to this device"
        style = "bold" if best and one is best[0] else "" if one.is_usable else "yellow"
        table.add_row(
            Text(one.protocol, style=style),
            Text(one.over, style=style),
            str(one.port),
            milliseconds(one.seconds) if one.answered else "",
            str(one.bits or ""),
            Text(printable(words), style=style),
        )
    yield Indented(table)
    if best is not None:
        one, why, source = best
        yield Text(f"  Best: {one.name}: {why}" + (f" ({source})" if source else ""), style="bold")
        choice = f"zesty choose {result.advice[0].profile} --protocol {one.protocol} --transport {one.over.lower()}"
        yield Text(f"  {choice}; with --transport any whichever is answered goes on.", style="dim")


def _worth_showing(rows: Iterable[AdviceRow]) -> list[AdviceRow]:
    """What somebody offers or takes, or what everybody should have."""
    return [
        row
        for row in rows
        if row.offered or row.gateway or (row.device and row.good and "MUST" in row.ike_status + row.esp_status)
    ]


def _matrix(result: AdviceResult) -> Parts:
    yield heading(f"Advice for {len(result.advice)} profiles; policy: {result.policy}; on {result.device}")
    labels = ("profile", "would be", "bits", "should be", "bits", "remarks")
    table = Table(*(Column(label, whole=label == "profile", right=label == "bits") for label in labels))
    for one in result.advice:
        remarks = [*one.obstacles, *dict.fromkeys(entry.code.slug for entry in one.findings)]
        silent = result.silent.get(one.profile, "")
        remarks = [f"does not answer: {silent}", *remarks] if silent else remarks
        worst = any(entry.severity is Severity.SERIOUS for entry in one.findings) or one.obstacles or silent
        same = one.would == one.should and one.would is not None
        table.add_row(
            Text(one.profile),
            Text(str(one.would) if one.would else ("?" if not one.answered else "nothing")),
            str(one.would_bits or ""),
            Text("the same", style="green") if same else Text(str(one.should) if one.should else "nothing"),
            str(one.should_bits or ""),
            Text(", ".join(remarks) or "none", style="yellow" if worst else ""),
        )
    yield Indented(table)
    yield Text("  For the reasons: zesty advise NAME", style="dim")


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {AdviceResult: advice_text}
