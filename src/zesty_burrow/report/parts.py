"""What renderings are made of: tables without lines, words before colours."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, TypeVar

from rich.console import RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from zesty_burrow.core.finding import Finding, Severity

SEVERITY_STYLES = {Severity.NOTE: "cyan", Severity.WARNING: "yellow", Severity.SERIOUS: "bold red"}


Parts = Iterable[RenderableType]


MAX_ROWS = 50
"""Lines of one sort that are shown of a large kit."""


T = TypeVar("T")


def grid(*columns: dict[str, Any]) -> Table:
    """A table without lines or headings."""
    table = Table(box=None, show_header=False, pad_edge=False, padding=(0, 2, 0, 0))
    for column in columns:
        table.add_column(**column)
    return table


def indent(part: RenderableType, left: int = 2) -> Padding:
    """Moved to the right."""
    return Padding(part, (0, 0, 0, left))


def heading(text: str) -> Text:
    """A line in bold."""
    return Text(text, style="bold")


def plural(count: int, one: str, many: str = "") -> str:
    """A number with its noun."""
    return f"{count} {one if count == 1 else many or one + 's'}"


def some(items: Sequence[T], group: Callable[[T], object]) -> list[T]:
    """At most ``MOST`` of each group: a screen for a person, not ten thousand lines."""
    counts: dict[object, int] = {}
    shown = []
    for item in items:
        key = group(item)
        counts[key] = counts.get(key, 0) + 1
        if counts[key] <= MAX_ROWS:
            shown.append(item)
    return shown


def findings_table(findings: Sequence[Finding], *, with_remedy: bool = True) -> Parts:
    """Findings, the serious ones first; what has no remedy beyond "nothing to do" stays on one line."""
    order = [Severity.SERIOUS, Severity.WARNING, Severity.NOTE]
    table = grid({"no_wrap": True}, {"no_wrap": True}, {"overflow": "fold"})
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
    more = [indent(Text(f"and {hidden} more of these (--json tells all)", style="dim"))] if hidden else []
    return [indent(table), *more]
