"""Findings as text for people."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, some

SEVERITY_STYLES = {Severity.NOTE: "cyan", Severity.WARNING: "yellow", Severity.SERIOUS: "bold red"}


def findings_table(findings: Sequence[Finding], *, with_remedy: bool = True) -> Parts:
    """Findings, the serious ones first; what has no remedy beyond "nothing to do" stays on one line."""
    order = [Severity.SERIOUS, Severity.WARNING, Severity.NOTE]
    table = Table(Column(whole=True), Column(whole=True), Column())
    every = sorted(findings, key=lambda one: order.index(one.severity))
    rows = some(every, lambda one: one.code)
    hidden = len(every) - len(rows)
    for entry, following in zip(rows, [*rows[1:], None], strict=True):
        words = entry.code.title if not entry.detail else f"{entry.code.title.rstrip('.')}: {entry.detail}"
        subject = f"{entry.subject}: " if entry.subject and entry.subject not in words else ""
        style = SEVERITY_STYLES[entry.severity]
        line = Text.assemble((subject, "bold"), words)
        table.add_row(Text(entry.severity, style=style), Text(entry.code.slug, style="bold"), line)
        # What several findings share is said once, under the last of them.
        is_last = following is None or following.code is not entry.code
        if with_remedy and is_last and entry.severity is not Severity.NOTE:
            table.add_row("", "", Text(f"To do: {entry.code.remedy}", style="italic"))
    more = [Indented(Text(f"and {hidden} more of these (--json tells all)", style="dim"))] if hidden else []
    return [Indented(table), *more]
