"""The simulated internet, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.lab import LabResult, PhoneResult, ScreenResult, WatchResult
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


def _phone(result: PhoneResult) -> Parts:
    status = result.status
    yield heading(f"The phone {result.host}: its tunnel is {'on' if status['on'] else 'off'}")
    if status["note"]:
        yield Text(f"It has ended by itself: {status['note']}")
    if not result.with_form:
        return
    table = Table(Column("field"), Column("value"), gap=3)
    for key, value in status["form"].items():
        table.add_row(key, Text(value))
    if status["form"]:
        yield Indented(table)
    else:
        yield Text(f"Its form is empty; it knows {' and '.join(status['types'])}.")
    count = status["trusted"]
    yield Text(f"It trusts {count} certificate{'' if count == 1 else 's'} that its owner has agreed to.")
    if status["faults"]:
        yield Text(f"Faults: {', '.join(status['faults'])}.")


def _screen(result: ScreenResult) -> Parts:
    edge = "+" + "-" * len(result.lines[0]) + "+"
    yield edge
    for line in result.lines:
        yield Text(f"|{line}|")
    yield edge


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    LabResult: _lab,
    WatchResult: _watch,
    PhoneResult: _phone,
    ScreenResult: _screen,
}
