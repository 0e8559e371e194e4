"""What a code means, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.report.findings import SEVERITY_STYLES
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.explanation import ExplainResult


def _explanation(result: ExplainResult) -> Parts:
    if len(result.codes) > 1:
        table = Table(Column(whole=True), Column(whole=True), Column())
        for code in result.codes:
            table.add_row(
                Text(code.severity, style=SEVERITY_STYLES[code.severity]), Text(code.slug, style="bold"), code.title
            )
        yield table
        return
    for code in result.codes:
        yield Text.assemble((code.slug, "bold"), " (", (code.severity, SEVERITY_STYLES[code.severity]), ")")
        table = Table(Column(whole=True, style="dim"), Column())
        for label, value in (
            ("what", code.title),
            ("why", code.why),
            ("to do", code.remedy),
            ("source", code.reference),
        ):
            if value:
                table.add_row(label, Text(value))
        yield Indented(table)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    ExplainResult: _explanation,
}
