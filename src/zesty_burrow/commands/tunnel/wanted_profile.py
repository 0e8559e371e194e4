"""Asks, on a terminal, which of several profiles ``connect`` means."""

from __future__ import annotations

import sys
from collections.abc import Sequence

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import UsageError
from zesty_burrow.report.layout import Column, Indented, Table
from zesty_burrow.store.rows import ProfileRow, matching
from zesty_burrow.use_cases.tunnel.last_used import last_used
from zesty_burrow.use_cases.tunnel.wanted import FAVOURITE, LAST, find_wanted

MOST_SHOWN = 20


def wanted_name(word: str | None, context: Context) -> str:
    """The name of the profile that is meant, or a place that one profile has."""
    wanted = find_wanted(word, context)
    return wanted.name or _from_list(wanted.candidates, context, wanted.why)


def _from_list(rows: Sequence[ProfileRow], context: Context, why: str) -> str:
    """Ask, on a terminal; elsewhere nothing is guessed."""
    if not sys.stdin.isatty():
        names = ", ".join(row.name for row in rows[:5])
        raise UsageError(why, next_step=f"Name one, for example {names}; `{LAST}` is the one used last.")
    while True:
        _show(rows, context)
        try:
            answer = context.reporter.ask_or_end(
                f"Number, letters to narrow the list down, or Enter for {rows[0].name}: "
            )
        except EOFError:
            raise UsageError(why, next_step="Name one; see `zesty list`.") from None
        answer = answer.strip()
        if not answer:
            return rows[0].name
        if answer.isdigit() and 1 <= int(answer) <= min(len(rows), MOST_SHOWN):
            return rows[int(answer) - 1].name
        fitting = matching(rows, answer.split())
        if len(fitting) == 1:
            return fitting[0].name
        if fitting:
            rows = fitting
        else:
            context.reporter.note(f"No profile has {answer!r:.40} in its name, place, provider or tags.")


def _show(rows: Sequence[ProfileRow], context: Context) -> None:
    table = Table(Column(right=True, whole=True), Column(whole=True, style="bold"), Column(), Column())
    for number, row in enumerate(rows[:MOST_SHOWN], start=1):
        place = ", ".join(part for part in (row.city, row.country) if part)
        mark = LAST if row.name == last_used(context) else FAVOURITE if FAVOURITE in row.tags.split() else ""
        table.add_row(str(number), row.name, place, mark)
    context.reporter.live.print(Indented(table))
    if len(rows) > MOST_SHOWN:
        context.reporter.note(f"  and {len(rows) - MOST_SHOWN} more")
