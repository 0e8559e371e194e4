"""The page of one verification, from its document: what was seen, by which evidence, and a picture of the ways."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.observation import Observation, read_observation
from zesty_burrow.report.pages.html import element, page, table, text

STANDING_CLASS = {"held": "held", "broken": "broken", "no evidence": "none"}
MOST_MARKS = 200
ROW = 26


def verification_page(document: Mapping[str, Any], changes: Sequence[Mapping[str, Any]] = ()) -> str:
    """``document``: as ``verify --json`` gives it."""
    profile = document["profile"] or "no tunnel"
    verdict = document["verdict"]
    taken = document["after"]["taken_at"]
    promise = f" The profile names {document['promise']}." if document["promise"] else ""
    parts = [
        element("h1", text(f"Verification of {profile}")),
        element("p", text(f"Taken {taken}.{promise}"), class_="soft"),
        element("p", text(f"{verdict.upper()}: {document['headline']}."), class_=f"verdict {verdict}"),
    ]
    parts += _section("What the profile leads to expect", _expectations(document["expectations"]))
    parts += _section("The ways out of this machine", _ways(document))
    parts += _section("Before and after", _before_and_after(document))
    parts += _section("Name servers of this machine", _names(document.get("names")))
    parts += _section("Packets that were watched", _watch(document.get("watch")))
    parts += _section("Findings", _findings(document["findings"]))
    parts += _section("What has changed since the last run", _changes(changes))
    return page(f"{verdict}: {profile}", *parts)


def _section(title: str, content: str) -> list[str]:
    return [element("h2", text(title)), content] if content else []


def _expectations(rows: Sequence[Mapping[str, Any]]) -> str:
    if not rows:
        return ""
    several = len({row["tunnel"] for row in rows if row["tunnel"]}) > 1
    cells = []
    for row in rows:
        what = f"{row['tunnel']}: {row['what']}" if several and row["tunnel"] else row["what"]
        standing = element("strong", text(row["standing"]), class_=STANDING_CLASS[row["standing"]])
        cells.append((standing, text(what), text(row["evidence"])))
    return table(("", "expectation", "evidence"), cells)


def _before_and_after(document: Mapping[str, Any]) -> str:
    if not document["after"]["reached"]:
        return element("p", text("Nobody looked from outside: no observatory answered, or none is configured."))
    before = read_observation(document["before"]) if document["before"] else Observation("")
    after = read_observation(document["after"])
    rows = [row for check in CHECKS for row in check.rows(before, after)]
    return table(("", "before", "after"), [tuple(map(text, row)) for row in rows])


def _names(names: Mapping[str, Any] | None) -> str:
    if names is None:
        return ""
    rows = []
    for server in names["servers"]:
        way = ", ".join(server["devices"]) or ("this machine" if server["is_here"] else "none: rejected")
        rows.append((text(server["address"]), text(way), text(server["listener"] or server["source"])))
    order = element("p", text(f"The C library asks in this order: {', '.join(names['order'])}."), class_="soft")
    return table(("server", "by", "named in"), rows) + order if rows else order


def _findings(rows: Sequence[Mapping[str, Any]]) -> str:
    cells = [
        (
            element("span", text(row["severity"]), class_=row["severity"]),
            text(row["code"]),
            text(f"{row['subject']}: {row['title']} {row['detail']}"),
            text(row["remedy"] if row["severity"] != "note" else ""),
        )
        for row in rows
    ]
    return table(("", "code", "what", "to do"), cells, (0, 1)) if cells else element("p", text("None."))


def _changes(changes: Sequence[Mapping[str, Any]]) -> str:
    rows = [(text(row["what"]), text(row["before"]), text(row["after"])) for row in changes]
    return table(("", "before", "now"), rows) if rows else ""


# Pictures.


def _ways(document: Mapping[str, Any]) -> str:
    ways = document.get("ways_out")
    if not ways:
        return ""
    exits = ", ".join(
        entry["address"] for entry in (document["after"]["ipv4"], document["after"]["ipv6"]) if entry["address"]
    )
    tunnels = list(dict.fromkeys(row["device"] for row in ways["summaries"] if row["role"] == "tunnel"))
    leaks = [row for row in ways["beside"] if row["kind"] not in ("bound", "gateway")]
    outer = dict.fromkeys([row["device"] for row in ways["summaries"] if row["role"] == "outer"])
    outer |= dict.fromkeys(row["device"] for row in leaks)
    drawn = _picture(tunnels, exits, list(outer), list(ways["allowed"]), leaks)
    words = (
        f"{ways['classes']} classes of packets were derived from rules, routes and packet filters; of {ways['asked']} "
        f"the kernel was asked as well, and said otherwise of {len(ways['differing'])}."
    )
    more = "".join(
        element(
            "p", text(f"Beside {row['tunnel']}, by {row['device']}: {row['packets']} ({row['why']})"), class_="broken"
        )
        for row in leaks
    )
    unknown = "".join(element("p", text(f"Not decided: {reason}"), class_="none") for reason in ways["undecided"])
    return element("figure", drawn) + element("p", text(words), class_="soft") + more + unknown


def _picture(
    tunnels: Sequence[str], exits: str, outer: Sequence[str], allowed: Sequence[str], leaks: Sequence[Mapping[str, Any]]
) -> str:
    """This machine on the left, its devices in the middle, what lies behind them on the right."""
    rows: list[tuple[str, str, list[str]]] = [(name, "way", [exits or "the tunnel's gateway"]) for name in tunnels]
    for name in outer:
        bad = any(row["device"] == name for row in leaks)
        rows.append(
            (name, "leak" if bad else "allowed", [*(["packets that belong in the tunnel"] if bad else []), *allowed])
        )
    heights = [max(2, len(words) + 1) * ROW for _, _, words in rows]
    total = max(sum(heights), 3 * ROW) + 20
    parts = [_box(10, total / 2 - 30, 150, 60, "this machine's", "programs")]
    top = 10.0
    for (name, kind, words), height in zip(rows, heights, strict=True):
        middle = top + height / 2
        parts += _arrow(160, total / 2, 300, middle, kind)
        parts.append(_box(300, middle - 20, 110, 40, name, ""))
        parts += _arrow(410, middle, 470, middle, kind)
        first = middle - (len(words) - 1) * ROW / 2 + 5
        parts += [_label(480, first + number * ROW, word) for number, word in enumerate(words)]
        top += height
    title = element("title", text("Which device packets leave by, and where they go"))
    return element("svg", title, *parts, viewBox=f"0 0 900 {total:.0f}", role="img", width="900")


def _box(x: float, y: float, width: float, height: float, first: str, second: str) -> str:
    frame = f'<rect class="box" x="{x:.0f}" y="{y:.0f}" width="{width:.0f}" height="{height:.0f}" rx="6"/>'
    lines = [word for word in (first, second) if word]
    step = height / (len(lines) + 1)
    words = "".join(
        f'<text x="{x + width / 2:.0f}" y="{y + step * (n + 1) + 5:.0f}" text-anchor="middle">{text(word)}</text>'
        for n, word in enumerate(lines)
    )
    return frame + words


def _arrow(x: float, y: float, to_x: float, to_y: float, kind: str) -> Iterator[str]:
    yield f'<path class="{kind}" d="M{x:.0f} {y:.0f} C{(x + to_x) / 2:.0f} {y:.0f} {(x + to_x) / 2:.0f} {to_y:.0f} '
    yield f'{to_x:.0f} {to_y:.0f}"/>'


def _label(x: float, y: float, words: str) -> str:
    return f'<text class="small" x="{x:.0f}" y="{y:.0f}">{text(words)}</text>'


def _watch(watch: Mapping[str, Any] | None) -> str:
    if watch is None:
        return ""
    if watch["blind"]:
        return element("p", text(f"Nobody watched: {watch['blind']}"), class_="none")
    rows = watch["unexplained"]
    words = f"Since {watch['since']}, for {watch['seconds']:.1f} s, by {', '.join(watch['devices']) or 'no device'}: "
    words += f"{watch['packets']} packets that nothing explains; the kernel dropped {watch['lost']} captures."
    cells = []
    for row in rows:
        packets = row["what"] or f"{row['protocol']} {row['source']} > {row['destination']}"
        shown = (row["first"], row["device"], packets, row["packets"], row["process"] or "not known")
        cells.append(tuple(map(text, shown)))
    listed = table(("first seen", "device", "packets", "how many", "process"), cells) if cells else ""
    return element("figure", _timeline(watch)) + element("p", text(words)) + listed


def _seconds(stamp: str) -> float:
    """Seconds of the day of a time as the watch writes it; a day's end between two is not looked at."""
    hours, minutes, seconds = stamp[11:].rstrip("Z").split(":")
    return 3600 * int(hours) + 60 * int(minutes) + float(seconds)


def _timeline(watch: Mapping[str, Any]) -> str:
    length = max(watch["seconds"], 0.001)
    begin = _seconds(watch["since"])
    marks = []
    for row in watch["unexplained"][:MOST_MARKS]:
        for stamp in dict.fromkeys((row["first"], row["last"])):
            at = 60 + 800 * min(max((_seconds(stamp) - begin) / length, 0), 1)
            marks.append(f'<rect class="mark" x="{at - 1.5:.1f}" y="12" width="3" height="26"/>')
    bar = '<rect class="bar" x="60" y="20" width="800" height="10"/>'
    ends = '<text class="small" x="60" y="56">0 s</text>'
    ends += f'<text class="small" x="860" y="56" text-anchor="end">{length:.1f} s</text>'
    title = element("title", text("When packets left that nothing explains"))
    return element("svg", title, bar, *marks, ends, viewBox="0 0 900 64", role="img", width="900")
