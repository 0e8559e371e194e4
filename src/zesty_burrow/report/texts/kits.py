"""What is in a kit, and how it compares with the store, as text for people."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from zesty_burrow.errors import printable
from zesty_burrow.report.findings import SEVERITY_STYLES, findings_table
from zesty_burrow.report.layout import Column, Indented, Table, Text
from zesty_burrow.report.parts import Parts, heading, plural, some
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.kits import ExplainResult, KitResult, PlacesResult

if TYPE_CHECKING:
    from zesty_burrow.intake.import_plan import ProfileDifference

SAID = frozenset(
    ("kit-read-me", "kit-junk", "kit-same-content", "kit-certificate-unused", "profile-same", "gateway-certificate")
)
"""Findings that a kit's table of files tells by itself."""


def _outcome(taken: bool, outcome: str) -> Text:
    """What became of a file, and of the profile in it."""
    if not taken or outcome == "left out":
        return Text("left out", style="yellow")
    if outcome.startswith("already stored"):
        return Text("already stored", style="dim")
    return Text(outcome.partition(" as ")[0] if outcome not in ("", "new") else outcome or "taken", style="green")


def _in_order(path: str) -> list[tuple[int, str]]:
    """Row 2 before row 10."""
    return [(int(part), "") if part.isdecimal() else (0, part) for part in re.split(r"(\d+)", path)]


def difference_table(difference: ProfileDifference) -> Parts:
    """What a kit's profile changes, key by key."""
    yield heading(f"{difference.name}: {difference.relation}, differs from the stored one")
    table = Table(*map(Column, ("key", "stored", "in the kit")), gap=3)
    for change in difference.changes:
        table.add_row(
            Text(change.key, style="dim"),
            Text(change.before or "absent", style="" if change.before else "dim"),
            Text(change.after or "absent", style="bold" if change.after else "dim"),
        )
    yield Indented(table)


def kit_text(result: KitResult) -> Parts:
    """Each file and what became of it, differences, findings, and a sentence in the end."""
    kit = result.kit
    # Of one file several gateways may be read.
    files = {item.path.partition(", ")[0] for item in kit.items}
    taken = {item.path.partition(", ")[0] for item in kit.items if item.taken}
    yield heading(f"{kit.origin}: {plural(len(files), 'file')}, {len(taken)} taken")
    table = Table(Column(whole=True), Column(whole=True), Column(), Column())
    items = sorted(kit.items, key=lambda one: (not one.taken, one.kind, _in_order(one.path)))
    outcomes = {(profile.path, "profile"): result.outcomes.get(profile.profile.name, "") for profile in kit.profiles}
    ways = {(profile.path, "profile"): f"; {profile.profile.over}" for profile in kit.profiles}
    for item in some(items, lambda one: one.taken):
        word = _outcome(item.taken, outcomes.get((item.path, str(item.kind)), ""))
        path = item.path.removeprefix(f"{kit.origin}/")
        why = item.why + ways.get((item.path, str(item.kind)), "")
        table.add_row(word, item.kind, Text(path), Text(why, style="" if item.taken else "dim"))
    yield Indented(table)
    hidden = len(items) - table.row_count
    if hidden:
        yield Indented(Text(f"and {hidden} more (--json tells all)", style="dim"))
    if kit.certificates:
        yield ""
        yield from _certificates(result)
    for difference in () if result.asked else result.differences:
        yield ""
        yield from difference_table(difference)
    # What the tables have just said need not be said again.
    notable = [entry for entry in result.findings if entry.code.slug not in SAID]
    if notable:
        yield ""
        yield heading("Findings")
        yield from findings_table(notable)
    yield ""
    yield Text(_kit_summary(result))


MOST_CERTIFICATES = 5


def _certificates(result: KitResult) -> Parts:
    """What a person compares them by."""
    found = list(dict.fromkeys(result.kit.certificates))
    yield heading("Certificates")
    table = Table(Column(), Column())
    for one in found[:MOST_CERTIFICATES]:
        use = "an authority" if one.is_authority else "one host or person"
        rows = [
            ("subject", Text(printable(one.subject), style="bold")),
            ("issued by", Text("itself" if one.issuer == one.subject else printable(one.issuer))),
            ("of", Text(f"{use}; {one.key}; valid from {one.begins[:10]} to {one.ends[:10]}")),
            *([("names", Text(printable(", ".join(one.names))))] if one.names else []),
            ("SHA-256", Text(one.sha256)),
        ]
        for label, value in rows:
            table.add_row(Text(label, style="dim"), value)
    yield Indented(table)
    if len(found) > MOST_CERTIFICATES:
        yield Indented(Text(f"and {len(found) - MOST_CERTIFICATES} more (--json tells all)", style="dim"))


def _kit_summary(result: KitResult) -> str:
    if result.kit.is_empty:
        return f"Nothing here can be imported by itself. Missing: {'; '.join(result.missing)}."
    profiles = len(result.kit.profiles)
    labels = sorted({str(entry.scope) for entry in result.kit.credentials})
    with_credentials = f" and the credentials for {', '.join(labels)}" if labels else ""
    counts: dict[str, int] = {}
    for outcome in result.outcomes.values():
        short = "already stored" if outcome.startswith("already stored") else outcome
        counts[short] = counts.get(short, 0) + 1
    words = ", ".join(f"{number} {outcome}" for outcome, number in sorted(counts.items())) or "none"
    if not result.imported:
        standing = f" ({words})" if set(counts) - {"new"} else ""
        would = f"`zesty import` would import {plural(profiles, 'profile')}{standing}{with_credentials}"
        return f"Nothing was changed. {would}."
    sealed = f" Sealed the credentials for {', '.join(labels)}." if labels else ""
    whom = " They are in the machine's store: every user of it may use them." if result.whom == "machine" else ""
    return f"Profiles: {words}.{sealed}{whom}"


def _places(result: PlacesResult) -> Parts:
    table = Table(*(Column(label, right=label == "load") for label in ("name", "place", "protocols", "load")), gap=3)
    for row in result.places:
        place = ", ".join(part for part in (row["city"], row["country"]) if part)
        load = f"{row['load']} %" if row["load"] >= 0 else "not told"
        best = "bold" if row["name"] == result.recommended else ""
        table.add_row(Text(row["name"], style=best), place, ", ".join(row["protocols"]), load)
    yield table
    yield ""
    if result.recommended:
        yield Text(f"The portal recommends {result.recommended}: {result.reason}.")
    yield Text(f"Import them all: zesty import {result.portal}; or one of them: --place NAME")


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
    KitResult: kit_text,
    PlacesResult: _places,
}
