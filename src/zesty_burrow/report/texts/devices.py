"""Devices as text for people."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

from zesty_burrow.errors import printable
from zesty_burrow.fleet.standing import DeviceState, Standing
from zesty_burrow.report.layout import Column, Table, Text, Verbatim
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.devices import (
    DeviceResult,
    DevicesResult,
    EnrolmentsResult,
    HandOverResult,
    KeyResult,
    LinksResult,
    ReceiptResult,
    ReportResult,
    RulesResult,
)
from zesty_burrow.report.times import local_time
from zesty_burrow.store.devices import Report
from zesty_burrow.use_cases.devices.request import HandOverRow

VERDICTS = {"sealed": "green", "leaking": "red", "unclear": "yellow"}
STYLES = {
    DeviceState.LEAKING: "red",
    DeviceState.FAILED: "red",
    DeviceState.PROFILE_GONE: "red",
    DeviceState.EXPIRED: "red",
    DeviceState.OUT_OF_DATE: "yellow",
    DeviceState.NEVER_SET_UP: "yellow",
    DeviceState.WAITING: "yellow",
    DeviceState.EXPIRES_SOON: "yellow",
    DeviceState.IN_DATE: "green",
}


ALWAYS = ("device", "kind", "state", "profile")
"""Columns that are shown in any case."""
OF_REPORTS = ("verdict", "exit", "verified")


def _cells(standing: Standing) -> dict[str, str | Text]:
    device, report = standing.device, standing.report
    return {
        "device": device.name,
        "kind": device.kind,
        "state": Text(standing.state.words, style=STYLES.get(standing.state, "")),
        "profile": standing.wanted,
        "why": printable(standing.why),
        "verdict": Text(report.verdict, style=VERDICTS[report.verdict]) if report else "",
        "exit": printable(_exit(report)) if report else "",
        "verified": local_time(report.taken_at) if report else "",
        "owner": device.owner,
        "place": device.place,
        "tags": " ".join(device.tags),
    }


def _attention(words: str) -> str | Text:
    return Text(words, style="yellow") if words else ""


def _list(result: DevicesResult) -> Parts:
    if not result.standings:
        words = "No device matches." if result.asked else "No devices. Add one: zesty devices add NAME --kind KIND"
        yield Text(words)
        return
    rows = [
        {**_cells(standing), "attention": _attention(result.attention.get(standing.wanted, ""))}
        for standing in result.standings
    ]
    # A column that is empty for all devices is left out; those of reports stand together.
    is_reported = any(row["verdict"] for row in rows)
    shown = {
        *ALWAYS,
        *(OF_REPORTS if is_reported else ()),
        *(label for label in rows[0] if any(row[label] for row in rows)),
    }
    headings = [label for label in rows[0] if label in shown]
    table = Table(*(Column(label, whole=label in ("device", "state")) for label in headings), gap=3)
    for row in rows:
        table.add_row(*(row[label] for label in headings))
    yield table
    yield ""
    counts = Counter(one.state for one in result.standings)
    told = ", ".join(f"{counts[state]} {state.words}" for state in sorted(counts))
    yield Text(f"{plural(len(result.standings), 'device')}: {told}.")
    left = sum(one.is_left for one in result.standings)
    if left:
        yield Text(f"To hand over to {'it' if left == 1 else f'these {left}'}: zesty hand-over --all")


def _exit(report: Report) -> str:
    """Where the device's traffic leaves: the place of each address that was seen, or the address where that is unknown.

    Reports have them as ``ADDRESS (OPERATOR, CITY, COUNTRY)``.
    """
    places = []
    for one in report.exits:
        address, _, rest = one.partition(" (")
        _, _, place = rest.removesuffix(")").partition(", ")
        places.append(place or address)
    return " / ".join(dict.fromkeys(places))


def _show(result: DeviceResult) -> Parts:
    one, device = result.standing, result.standing.device
    yield heading(device.name)
    rule = result.rule
    because = ", ".join(f"{key} {value}" for key, value in rule.conditions.items()) or "all" if rule else ""
    rows = [
        ("kind", device.kind),
        ("owner", device.owner),
        ("place", device.place),
        ("tags", " ".join(device.tags)),
        ("client", "this program" if device.runs_program else f"built in, as of a {device.connects_by}"),
        ("knows", ", ".join(device.protocols)),
        ("signs in by", ", ".join(device.sign_ins)),
        ("reached by", device.reach),
        ("folder", device.folder),
        ("key", result.code or ("none yet: `zesty enrol` on the device" if device.runs_program else "")),
        ("profile", f"{one.wanted} (rule {rule.number}: {because})" if rule else "no rule says which"),
        ("state", f"{one.state.words}{f': {one.why}' if one.why else ''}"),
    ]
    if one.last is not None:
        last = one.last
        rows.append(("handed over", f"{last.profile} by {last.form}, {local_time(last.at)}: {last.state}"))
        rows += [("certificates", f"the first ends {last.expires[:10]}")] if last.expires else []
    if one.report is not None:
        report = one.report
        rows.append(("verified", f"{local_time(report.taken_at)}: {report.verdict}, {', '.join(report.exits)}"))
        rows.append(("findings", ", ".join(report.codes)))
    table = Table(Column("", whole=True), Column(""), gap=2)
    for label, value in rows:
        if value:
            table.add_row(label, printable(value))
    yield table
    for why in result.misfits:
        yield Text(f"It cannot use {one.wanted}: {why}.", style="red")
    if result.misfits:
        near = f"The nearest that it can: {result.nearest}." if result.nearest else "No other profile is nearer to it."
        yield Text(near)


def _rules(result: RulesResult) -> Parts:
    if not result.rules:
        yield Text("No rules. Make one: zesty devices assign PROFILE --kind phone")
        return
    table = Table(Column("rule"), Column("devices with"), Column("get", whole=True), Column("at present"), gap=3)
    for counted in result.rules:
        rule = counted.rule
        whom = ", ".join(f"{key} {value}" for key, value in rule.conditions.items()) or "anything"
        table.add_row(str(rule.number), printable(whom), rule.profile, plural(counted.devices, "device"))
    yield table
    yield Text("The first that fits a device is followed.")


def _edition_changes(rows: list[HandOverRow]) -> Parts:
    same: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for row in rows:
        if row.changes:
            same.setdefault((row.profile, row.changes), []).append(row.device)
    for (profile, changes), names in same.items():
        yield ""
        yield Text(f"What changes in {profile} on {plural(len(names), 'device')}: {', '.join(names)}")
        for change in changes:
            yield Text(f"  {printable(change)}")


def _failures(failed: Sequence[HandOverRow]) -> Parts:
    """By causes, each with its devices, up to three details and the remedy."""
    causes: dict[tuple[str, str], list[HandOverRow]] = {}
    for row in failed:
        causes.setdefault((row.cause, row.remedy), []).append(row)
    for (cause, remedy), rows in causes.items():
        yield ""
        names = ", ".join(row.device for row in rows)
        yield Text.assemble((f"{cause}: ", "red"), f"{plural(len(rows), 'device')}: {names}")
        for detail in list(dict.fromkeys(row.detail for row in rows if row.detail))[:3]:
            yield Text(f"  {printable(detail)}")
        if remedy:
            yield Text(f"  To do: {printable(remedy)}")


def _totals(result: HandOverResult, going: Sequence[HandOverRow], failed: int) -> list[str]:
    counts = Counter("would be handed over" if result.dry else row.state for row in going)
    told = [f"{count} {state}" for state, count in sorted(counts.items())]
    told += [f"{failed} cannot be" if result.dry else f"{failed} not handed over"] if failed else []
    again = " (they have it; once more: add --again)" if result.left and not result.rows else ""
    return [*told, f"{result.left} with nothing left to do{again}"] if result.left else told


def _handed(result: HandOverResult) -> Parts:
    going = [row for row in result.rows if not row.cause]
    failed = [row for row in result.rows if row.cause]
    links = [row for row in going if row.to.startswith("https://")]
    if going:
        table = Table(
            Column("device", whole=True), Column("profile"), Column("by"), Column("state"), Column("to"), gap=3
        )
        for row in going:
            table.add_row(
                row.device, row.profile, row.form, row.detail or row.state, "" if row in links else printable(row.to)
            )
        yield table
    yield from _edition_changes(going)
    for row in links if not result.dry else ():
        # In one piece, to be copied: what is behind the sign # opens it.
        yield ""
        yield Text(f"The link for {row.device}:")
        yield Verbatim(row.to)
    if result.code:
        yield ""
        yield Verbatim(result.code)
    yield from _failures(failed)
    yield ""
    yield Text(f"{', '.join(_totals(result, going, len(failed)))}.")
    if failed and not result.dry:
        yield Text("The same command again does only what is left.")


def _enrolments(result: EnrolmentsResult) -> Parts:
    if not result.enrolments:
        yield Text("No device asks to be in the list. On a device: zesty enrol --to URL")
        return
    table = Table(Column("device", whole=True), Column("kind"), Column("asked"), Column("shows", whole=True), gap=3)
    for who in result.enrolments:
        asked = who.enrolment
        table.add_row(asked.name, asked.kind, local_time(asked.at), who.code)
    yield table
    yield Text("Compare the code with the one that the device shows: zesty devices accept CODE")


def _links(result: LinksResult) -> Parts:
    if not result.links:
        yield Text("No links. Make one: zesty hand-over NAME --link https://…")
        return
    table = Table(Column("device", whole=True), Column("can be opened until"), Column("its owner has got to"), gap=3)
    for row in result.links:
        over = "over" if row.until <= result.now else row.until
        table.add_row(row.device, "was opened" if row.opened_at else over, f"{row.step} {row.step_at}".strip())
    yield table


def _key(result: KeyResult) -> Parts:
    yield Text(result.key)
    yield ""
    yield Text(f"The {result.role}'s code, for people to compare: {result.code}")
    for one in result.accepted:
        yield Text(f"Takes profiles from the administrator {one}.")


def _report(result: ReportResult) -> Parts:
    yield Text.assemble(
        "The verdict is ", (result.verdict, VERDICTS[result.verdict]), f". Reports sent: {result.sent}."
    )
    if result.waiting:
        waits = plural(result.waiting, "report")
        yield Text(f"{waits} could not be sent ({printable(result.why)}); the next run sends what waits.")


def _receipt(result: ReceiptResult) -> Parts:
    if result.profiles:
        yield Text(f"{result.state.capitalize()}: {', '.join(map(printable, result.profiles))}.")
    else:
        yield Text(f"{result.state.capitalize()}.")
    if result.detail:
        yield Text(printable(result.detail))


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    DevicesResult: _list,
    DeviceResult: _show,
    RulesResult: _rules,
    HandOverResult: _handed,
    EnrolmentsResult: _enrolments,
    LinksResult: _links,
    KeyResult: _key,
    ReceiptResult: _receipt,
    ReportResult: _report,
}
