"""The page of a history: timelines of verdicts, exits and round trips (SVG), and what has changed since when."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from zesty_burrow.extras import extra
from zesty_burrow.report.pages.html import element, page, table, text

MOST_DRAWN = 2000
MOST_CHANGES = 200
MOST_EXITS = 12
COLOURS = {"sealed": "#18723b", "leaking": "#b3261e", "unclear": "#8a5a00"}
MARKS = {"sealed": "o", "leaking": "X", "unclear": "s"}
"""A verdict is shown by its row and its mark as well as by its colour."""


def history_page(runs: Sequence[Mapping[str, Any]], changes: Sequence[Mapping[str, Any]]) -> str:
    """``runs``, ``changes``: as ``history --json`` gives them, the newest first.

    :class:`ExtraMissing` without the library that draws.
    """
    drawn = list(reversed(runs[:MOST_DRAWN]))
    span = f"{drawn[0]['taken_at']} to {drawn[-1]['taken_at']}" if drawn else "no run"
    parts = [
        element("h1", text("Verifications over time")),
        element("p", text(f"{len(drawn)} runs, {span}."), class_="soft"),
    ]
    if drawn:
        for title, figure in (("Verdicts", _verdicts), ("Exits", _exits), ("Round trips", _round_trips)):
            parts += [element("h2", text(title)), element("figure", figure(drawn))]
    parts += [element("h2", text("What has changed, and since when")), _changes(changes)]
    return page("Verifications over time", *parts)


def _changes(changes: Sequence[Mapping[str, Any]]) -> str:
    rows = [
        (text(row["taken_at"]), text(row["device"]), text(row["profile"] or "no tunnel"),
         "".join(element("p", text(f"{one['what']}: {one['before']} became {one['after']}")) for one in row["changes"]))
        for row in changes[:MOST_CHANGES]
    ]  # fmt: skip
    if not rows:
        return element("p", text("Nothing has changed from run to run."))
    return table(("since", "device", "profile", "what has changed"), rows)


def _axes(height: float) -> tuple[Any, Any]:
    with extra("pages"):
        from matplotlib.figure import Figure
    figure = Figure(figsize=(9, height))
    axes = figure.subplots()
    # Edges at the same places, so that the timelines of one page stand below one another.
    figure.subplots_adjust(left=0.26, right=0.98, top=1 - 0.1 / height, bottom=0.75 / height)
    axes.tick_params(labelsize=9)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.grid(axis="x", alpha=0.25)
    return figure, axes


def _times(runs: Sequence[Mapping[str, Any]]) -> list[datetime]:
    return [datetime.fromisoformat(run["taken_at"]) for run in runs]


def _named(run: Mapping[str, Any]) -> str:
    return f"{run['profile'] or 'no tunnel'} on {run['device']}"


def _verdicts(runs: Sequence[Mapping[str, Any]]) -> str:
    """A row for each profile on each device."""
    rows = sorted({_named(run) for run in runs})
    figure, axes = _axes(1.2 + 0.35 * len(rows))
    times = _times(runs)
    for verdict, colour in COLOURS.items():
        chosen = [
            (when, rows.index(_named(run))) for when, run in zip(times, runs, strict=True) if run["verdict"] == verdict
        ]
        if chosen:
            axes.scatter(*zip(*chosen, strict=True), c=colour, marker=MARKS[verdict], s=34, label=verdict)
    axes.set_yticks(range(len(rows)), rows)
    axes.set_ylim(-0.6, len(rows) - 0.4)
    axes.legend(loc="upper left", bbox_to_anchor=(-0.34, -0.05), frameon=False, fontsize=9)
    return _svg(figure, times, "Verdicts over time, a row for each profile and device")


def _exits(runs: Sequence[Mapping[str, Any]]) -> str:
    seen: dict[str, list[datetime]] = {}
    for when, run in zip(_times(runs), runs, strict=True):
        for address in filter(None, run["exits"].split(", ")):
            seen.setdefault(address, []).append(when)
    kept = sorted(seen, key=lambda address: seen[address][0])[:MOST_EXITS]
    figure, axes = _axes(1.0 + 0.3 * max(len(kept), 1))
    for number, address in enumerate(kept):
        axes.plot(seen[address], [number] * len(seen[address]), marker="|", linewidth=2, markersize=9)
    axes.set_yticks(range(len(kept)), kept)
    axes.set_ylim(-0.6, max(len(kept), 1) - 0.4)
    return _svg(figure, _times(runs), "Which address the outside saw, and when")


def _round_trips(runs: Sequence[Mapping[str, Any]]) -> str:
    figure, axes = _axes(2.4)
    times = _times(runs)
    for name in sorted({_named(run) for run in runs}):
        chosen = [
            (when, 1000 * run["round_trip"])
            for when, run in zip(times, runs, strict=True)
            if _named(run) == name and run["round_trip"]
        ]
        if chosen:
            axes.plot(*zip(*chosen, strict=True), marker="o", markersize=4, linewidth=1.2, label=name)
    axes.set_ylabel("ms", fontsize=9)
    axes.set_ylim(bottom=0)
    if axes.lines:
        axes.legend(frameon=False, fontsize=9)
    return _svg(figure, times, "Round trip to the gateway, in milliseconds")


def _edges(times: Sequence[datetime]) -> tuple[datetime, datetime]:
    room = max((times[-1] - times[0]) / 40, timedelta(minutes=1))
    return times[0] - room, times[-1] + room


def _svg(figure: Any, times: Sequence[datetime], title: str) -> str:
    """As part of a page: texts as letters, in the page's own colour."""
    with extra("pages"):
        import matplotlib as mpl
    for axes in figure.axes:
        axes.set_xlim(*_edges(times))
        for label in axes.get_xticklabels():
            label.set_rotation(20)
            label.set_ha("right")
    room = io.StringIO()
    with mpl.rc_context({"svg.fonttype": "none", "svg.hashsalt": "zesty"}):
        figure.savefig(room, format="svg", transparent=True, metadata={"Date": None, "Title": title})
    drawn = room.getvalue()
    drawn = drawn[drawn.index("<svg") :]
    for colour in ("#000000", "black"):
        drawn = drawn.replace(f"stroke: {colour}", "stroke: currentColor").replace(
            f"fill: {colour}", "fill: currentColor"
        )
    return drawn
