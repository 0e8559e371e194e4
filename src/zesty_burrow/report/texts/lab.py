"""The simulated internet, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.lab import LabResult, WatchResult
from zesty_burrow.report.texts.status import octets


def _lab(result: LabResult) -> Parts:
    yield heading(f"The lab runs (process {result.status['process']}, folder {result.status['folder']})")
    rows = result.status["hosts"]
    headings = ["host", "process", "tunnels", "faults"]
    headings += ["note"] if any(row.get("note") for row in rows.values()) else []
    table = Table(*map(Column, headings), gap=3)
    for name, row in rows.items():
        faults = ", ".join(row.get("faults", [])) or ("none" if "faults" in row else "")
        cells = [name, str(row["process"]), str(row.get("tunnels", "")), faults, row.get("note", "")]
        table.add_row(*map(Text, cells[: len(headings)]))
    yield Indented(table)
    yield Text(f"The provider's kit: {result.kit}")
    yield Text("Run a command on the workstation: zesty lab run heron -- zesty list")


def _watch(result: WatchResult) -> Parts:
    yield heading(f"What the workstation sent in {result.seconds:g} s")
    if not result.rows:
        yield "  nothing"
        return
    table = Table(Column("kind"), Column("what"), Column("packets", right=True), Column("octets", right=True), gap=3)
    before = ""
    for row in result.rows:
        table.add_row("" if row.kind == before else row.kind, Text(row.what), str(row.packets), octets(row.octets))
        before = row.kind
    yield Indented(table)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    LabResult: _lab,
    WatchResult: _watch,
}
