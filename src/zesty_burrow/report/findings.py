"""Findings as text for people."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.core.finding import Code, Finding, Severity
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, some

SEVERITY_STYLES = {Severity.NOTE: "cyan", Severity.WARNING: "yellow", Severity.SERIOUS: "bold red"}


MOST_SUBJECTS = 4
"""Things that are named where the same is to be said of several; of more, the number is shown."""


def findings_table(findings: Sequence[Finding], *, with_remedy: bool = True) -> Parts:
    """Findings, the serious ones first; what has one cause is shown once, with what it is about and how many.

    What has no remedy beyond "nothing to do" stays on one line.
    """
    if not findings:
        return []
    alike: dict[tuple[Code, str], list[str]] = {}
    for entry in findings:
        alike.setdefault((entry.code, entry.detail), []).append(entry.subject)
    order = [Severity.SERIOUS, Severity.WARNING, Severity.NOTE]
    seen = list(dict.fromkeys(code for code, _ in alike))
    every = sorted(alike, key=lambda one: (order.index(one[0].severity), seen.index(one[0])))
    rows = some(every, lambda one: one[0])
    hidden = sum(len(alike[one]) for one in every) - sum(len(alike[row]) for row in rows)
    table = Table(Column(whole=True), Column(whole=True), Column())
    for (code, detail), following in zip(rows, [*rows[1:], None], strict=True):
        words = code.title if not detail else f"{code.title.rstrip('.')}: {detail}"
        subject = _subjects(alike[code, detail], words)
        style = SEVERITY_STYLES[code.severity]
        table.add_row(
            Text(code.severity, style=style), Text(code.slug, style="bold"), Text.assemble((subject, "bold"), words)
        )
        # A remedy that several findings share is printed once, under the last of them.
        is_last = following is None or following[0] is not code
        if with_remedy and is_last and code.severity is not Severity.NOTE:
            table.add_row("", "", Text(f"To do: {code.remedy}", style="italic"))
    more = [Indented(Text(f"and {hidden} more of these (--json tells all)", style="dim"))] if hidden else []
    return [Indented(table), *more]


def _subjects(subjects: list[str], words: str) -> str:
    names = [name for name in dict.fromkeys(subjects) if name and name not in words]
    if not names:
        return f"{len(subjects)} times: " if len(subjects) > 1 else ""
    more = f" and {len(names) - MOST_SUBJECTS} more" if len(names) > MOST_SUBJECTS else ""
    return ", ".join(names[:MOST_SUBJECTS]) + more + ": "
