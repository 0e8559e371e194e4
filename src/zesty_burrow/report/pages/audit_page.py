"""The first page of a report for auditors, from its document."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from typing import Any

from zesty_burrow.report.pages.html import element, page, table, text

MOST_RUNS = 500
HOW_TO_CHECK = (
    "Each run in runs.jsonl is signed and names the one before it; manifest.jws signs every file. Check both with: "
    "zesty audit --check FILE --key KEY. The key of the device that made the report, which has to come to you by "
    "another way as well:"
)


def audit_page(report: Mapping[str, Any]) -> str:
    """``report``: period, profiles, changes, exceptions, runs."""
    verdicts = Counter(run["verdict"] for run in report["runs"])
    counted = ", ".join(f"{count} {verdict}" for verdict, count in sorted(verdicts.items()))
    parts = [
        element("h1", text(f"What was verified on {report['device']}")),
        element("p", text(f"From {report['since']} to {report['until']}; made {report['made_at']}."), class_="soft"),
        element("p", text(f"{len(report['runs'])} runs: {counted}.")),
        element("h2", text("What is configured")),
        _profiles(report),
        element("h2", text("Exceptions: runs that were not sealed")),
        _exceptions(report),
        element("h2", text("What was verified, and when")),
        _runs(report),
        element("h2", text("What was changed")),
        _changes(report),
        element("h2", text("How this report is checked")),
        element("p", text(HOW_TO_CHECK)),
        element("p", element("code", text(report["key"]))),
    ]
    return page(f"Report on {report['device']}", *parts)


def _profiles(report: Mapping[str, Any]) -> str:
    keys = ("name", "provider", "country", "protocol", "origin", "imported_at")
    rows = [(*(text(row[key] or "") for key in keys), text(row["digest"][:16])) for row in report["profiles"]]
    return table(("profile", "provider", "country", "protocol", "source", "stored", "digest"), rows, (0, 2, 3, 5, 6))


def _exceptions(report: Mapping[str, Any]) -> str:
    rows = [
        (
            text(row["taken_at"]),
            text(row["profile"]),
            element("strong", text(row["verdict"]), class_=row["verdict"]),
            "".join(element("p", text(words)) for words in (*row["expectations"], *row["findings"])),
        )
        for row in report["exceptions"]
    ]
    return table(("taken", "profile", "verdict", "why"), rows, (0, 1, 2)) if rows else element("p", text("None."))


def _runs(report: Mapping[str, Any]) -> str:
    runs = report["runs"][-MOST_RUNS:]
    rows = []
    for run in reversed(runs):
        after = run["after"]
        exits = ", ".join(entry["address"] for entry in (after["ipv4"], after["ipv6"]) if entry["address"])
        verdict = element("strong", text(run["verdict"]), class_=run["verdict"])
        rows.append(
            (
                text(after["taken_at"]),
                text(run["device"]),
                text(run["profile"] or "no tunnel"),
                verdict,
                text(run["headline"]),
                text(exits),
            )
        )
    more = len(report["runs"]) - len(runs)
    rest = element("p", text(f"{more} earlier runs are in runs.csv."), class_="soft") if more > 0 else ""
    return table(("taken", "device", "profile", "verdict", "in words", "exits"), rows, (0, 1, 2, 3)) + rest


def _changes(report: Mapping[str, Any]) -> str:
    rows = [
        (text(row["made_at"]), text(row["what"]), text(row["who"]), text("taken back" if row["undone"] else ""))
        for row in report["changes"]
    ]
    return table(("when", "what", "by", ""), rows) if rows else element("p", text("Nothing that is still on record."))
