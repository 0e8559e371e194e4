"""Profiles as a list, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zesty_burrow.errors import printable
from zesty_burrow.report.layout import Column, Table, Text
from zesty_burrow.report.parts import Parts, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.listing import ListResult, StartupResult

YELLOW = ("lacks", "attention")


def _list(result: ListResult) -> Parts:
    if not result.profiles:
        words = "No profile matches." if result.asked else "No profiles. Import a provider's kit: zesty import KIT"
        yield Text(words)
        return
    headings = ["name", "place", "provider", "protocol", "imported"]
    headings += [label for label in ("tunnel", "tags", *YELLOW) if any(row[label] for row in result.profiles)]
    headings += ["for"] if len({row["for"] for row in result.profiles}) > 1 else []
    table = Table(*(Column(label, whole=label == "name") for label in headings), gap=3)
    for row in result.profiles:
        place = ", ".join(part for part in (row["city"], row["country"]) if part)
        cells = {**row, "place": place, "imported": row["imported_at"][:10]}
        table.add_row(*(_cell(label, cells[label]) for label in headings))
    yield table
    lacking = [row["name"] for row in result.profiles if row["lacks"]]
    if lacking:
        yield ""
        yield Text(f"{plural(len(lacking), 'profile')} cannot work without what is named under lacks: zesty show NAME")
    if "attention" in headings:
        yield ""
        yield Text("What needs attention, in words: zesty monitor")


def _cell(label: str, words: str) -> str | Text:
    if label == "tunnel":
        return Text(printable(words), style="bold green" if words == "up" else "yellow")
    return Text(printable(words), style="yellow") if label in YELLOW and words else printable(words)


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
