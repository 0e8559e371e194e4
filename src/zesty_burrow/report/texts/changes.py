"""What was changed, removed, kept or written, as text for people."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from zesty_burrow.report.layout import Column, Indented, Table, Text, Verbatim
from zesty_burrow.report.parts import Parts, heading, plural
from zesty_burrow.report.results.base import Result
from zesty_burrow.report.results.changes import (
    ChangesResult,
    CodeResult,
    CredentialsResult,
    ExportResult,
    HistoryResult,
    RemoveResult,
)
from zesty_burrow.store.history import KEPT_DAYS

if TYPE_CHECKING:
    from zesty_burrow.profiles.compare import Difference


def _removed(result: RemoveResult) -> Parts:
    yield Text(f"Removed {plural(len(result.removed), 'profile')}: {', '.join(result.removed)}.")
    if result.forgotten:
        yield Text(f"The credentials for {', '.join(result.forgotten)} are gone with them.")
    if not result.for_good:
        yield Text(f"Can be taken back for {KEPT_DAYS} days: zesty undo")


def _history(result: HistoryResult) -> Parts:
    if not result.changes:
        yield Text("No change can be taken back.")
        return
    heads = (
        Column("", right=True),
        Column("when", whole=True),
        Column("what"),
        Column("by", whole=True),
        *map(Column, ("profiles", "credentials", "devices")),
    )
    table = Table(*heads, Column("", whole=True), gap=3)
    for row in result.changes:
        style = "dim" if row.undone else ""
        cells = (str(row.number), row.made_at.replace("T", " ").removesuffix("Z"), row.what, row.who)
        table.add_row(
            *(Text(cell, style=style) for cell in (*cells, _few(row.names), _few(row.scopes), _few(row.devices))),
            Text("taken back" if row.undone else ""),
        )
    yield table
    yield ""
    yield Text("Take the last one back: zesty undo; another one: zesty undo NUMBER")


def _few(names: tuple[str, ...]) -> str:
    return f"{len(names)} of them" if len(names) > 1 else "".join(names)


def _credentials(result: CredentialsResult) -> Parts:
    if not result.credentials:
        yield Text("No credentials are kept, and no profile needs any.")
        return
    headings = ["for", "kind", "sealed", "accepted", "from", "used by"]
    if any(row["domain"] for row in result.credentials):
        headings.insert(2, "domain")
    table = Table(*map(Column, headings), gap=3)
    for row in result.credentials:
        names = row["profiles"]
        used = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        kept = row["sealed_at"][:10] or "missing"
        cells = [row["scope"], row["kind"], kept, row["worked_at"][:10], row["origin"], used or "no profile"]
        if "domain" in headings:
            cells.insert(2, row["domain"])
        table.add_row(*map(Text, cells))
    yield table


def _exported(result: ExportResult) -> Parts:
    extra = f", with the sealed credentials for {', '.join(result.credentials)}" if result.credentials else ""
    yield Text(f"Wrote {plural(len(result.profiles), 'profile')} to {', '.join(result.files)}{extra}.")
    if result.left_out:
        yield Text("Left out, because the format cannot contain it:")
        for words in dict.fromkeys(result.left_out):
            yield Indented(Text(words))


def _code(result: CodeResult) -> Parts:
    for position, code in enumerate(result.codes, start=1):
        of = f", code {position} of {len(result.codes)}" if len(result.codes) > 1 else ""
        yield heading(f"{result.profile}{of}")
        yield Verbatim(code)
    if result.credentials:
        yield Text(f"With the sealed credentials for {', '.join(result.credentials)}.")


MOST = 20
"""Different changes that are shown, and names of profiles that have the same; of more only the number."""


def _changes(result: ChangesResult) -> Parts:
    alike: dict[tuple[Difference, ...], list[str]] = {}
    for row in result.rows:
        alike.setdefault(row.differences, []).append(row.name)
    for differences, names in list(alike.items())[:MOST]:
        more = f" and {len(names) - MOST} more" if len(names) > MOST else ""
        yield heading(", ".join(names[:MOST]) + more)
        table = Table(*map(Column, ("key", "before", "would be" if result.dry_run else "now")), gap=3)
        for difference in differences:
            table.add_row(
                Text(difference.key, style="dim"),
                Text(difference.before or "absent", style="" if difference.before else "dim"),
                Text(difference.after or "absent", style="bold" if difference.after else "dim"),
            )
        yield Indented(table)
    if len(alike) > MOST:
        yield Text(f"and {len(alike) - MOST} other changes (--json tells all)")
    count = plural(len(result.rows), "profile")
    words = f"{count} would be changed." if result.dry_run else f"{count} changed."
    unchanged = f" {plural(result.unchanged, 'profile')} unchanged." if result.unchanged else ""
    yield Text(words + unchanged)


RENDERERS: dict[type[Result], Callable[[Any], Parts]] = {
    RemoveResult: _removed,
    HistoryResult: _history,
    CredentialsResult: _credentials,
    ExportResult: _exported,
    CodeResult: _code,
    ChangesResult: _changes,
}
