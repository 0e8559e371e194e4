"""Profiles as a list, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.errors import printable
from zesty_burrow.report.layout import Column, Table, Text
from zesty_burrow.report.parts import Parts, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.listing import ListResult, StartupResult


def _list(result: ListResult) -> Parts:
    if not result.profiles:
        words = "No profile matches." if result.asked else "No profiles. Import a provider's kit: zesty import KIT"
        yield Text(words)
        return
    headings = ["name", "place", "provider", "protocol", "imported"]
    headings += ["tags"] if any(row["tags"] for row in result.profiles) else []
    headings += ["lacks"] if any(row["lacks"] for row in result.profiles) else []
    headings += ["attention"] if any(row["attention"] for row in result.profiles) else []
    headings += ["for"] if len({row["for"] for row in result.profiles}) > 1 else []
    table = Table(*(Column(label, whole=label == "name") for label in headings), gap=3)
    for row in result.profiles:
        place = ", ".join(part for part in (row["city"], row["country"]) if part)
        cells = {**row, "place": place, "imported": row["imported_at"][:10]}
        shown: list[str | Text] = [printable(cells[label]) for label in headings]
        if row["lacks"]:
            shown[headings.index("lacks")] = Text(printable(row["lacks"]), style="yellow")
        if row["attention"]:
            shown[headings.index("attention")] = Text(row["attention"], style="yellow")
        table.add_row(*shown)
    yield table
    lacking = [row["name"] for row in result.profiles if row["lacks"]]
    if lacking:
        yield ""
        yield Text(f"{plural(len(lacking), 'profile')} cannot work without what is named under lacks: zesty show NAME")
    if any(row["attention"] for row in result.profiles):
        yield ""
        yield Text("What needs attention, in words: zesty monitor")


def _startup(result: StartupResult) -> Parts:
    if not result.units:
        yield Text("Nothing of ours is started by the machine. Add it: zesty startup add NAME, or guard")
        return
    table = Table(Column("starts", whole=True), Column("when"), Column("unit"), gap=3)
    for row in result.units:
        table.add_row(printable(row["what"]), printable(row["when"] or "not enabled"), printable(row["path"]))
    yield table


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    ListResult: _list,
    StartupResult: _startup,
}
