"""Which profile ``connect`` means: by name, place, country, an earlier rehearsal, the one used last, or from a list."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.commands.context import Context
from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.report.layout import Column, Indented, Table
from zesty_burrow.store.layered_store import LayeredStore
from zesty_burrow.store.rows import ProfileRow, matching

LAST, FAVOURITE = "last", "favourite"
"""The word for the profile that was used last; the tag by which profiles come first in the list."""
BY_REHEARSAL = ("nearest", "fastest", "strongest")
MOST_SHOWN = 20
LONGEST_NAME = 256


def remember(name: str, context: Context) -> None:
    """This profile was used last. Where that cannot be written, the tunnel is up all the same."""
    with suppress(OSError):
        replace_file(context.paths.last_profile, f"{name}\n".encode(), 0o600)


def last_used(context: Context) -> str:
    """The profile that was used last; empty where that is not known."""
    try:
        with context.paths.last_profile.open("rb") as stream:
            return stream.read(LONGEST_NAME).decode("utf-8", "replace").strip()
    except OSError:
        return ""


def wanted_name(word: str | None, layered_store: LayeredStore, context: Context) -> str:
    """The name of the profile that is meant, or a place that one profile has."""
    if word is None:
        return _from_list(_in_order(layered_store.list_profiles(), context), context, "no profile is named")
    if any(row.name == word for _, row in layered_store.list_profiles([word])):
        return word
    if word == LAST:
        name = last_used(context)
        if not name:
            raise NotFound("no profile was used yet", next_step="Name one; see `zesty list`.")
        context.reporter.note(f"The one used last is {name}.")
        return name
    if word in BY_REHEARSAL:
        return _by_rehearsal(word, context)
    if len(word) == 2 and word.isascii() and word.isalpha():
        rows = [(whom, row) for whom, row in layered_store.list_profiles() if row.country == word.upper()]
        if rows:
            return _in_country(word.upper(), _in_order(rows, context), context)
    return word


def _by_rehearsal(word: str, context: Context) -> str:
    """What the latest rehearsal found to be the nearest, fastest or strongest."""
    # Slow to load, and seldom needed.
    from zesty_burrow.commands.tunnel.rehearse import latest_rehearsals
    from zesty_burrow.core.rehearsal import recommend

    taken_at, rehearsals = latest_rehearsals(context)
    best = recommend(rehearsals).get(word)
    if best is None:
        why = f"none was fit in the rehearsal of {taken_at}" if taken_at else "nothing has been rehearsed yet"
        raise NotFound(f"no rehearsal tells which profile is the {word}", why=why, next_step="Run `zesty rehearse`.")
    context.reporter.note(f"The {word} is {best.profile}, by the rehearsal of {taken_at}.")
    return best.profile


def _in_order(rows: Sequence[tuple[str, ProfileRow]], context: Context) -> list[ProfileRow]:
    """The one used last, favourites, the others by name; each name once."""
    last = last_used(context)
    known = {row.name: row for _, row in reversed(rows)}
    return sorted(known.values(), key=lambda row: (row.name != last, FAVOURITE not in row.tags.split(), row.name))


def _in_country(country: str, rows: list[ProfileRow], context: Context) -> str:
    if len(rows) == 1:
        return rows[0].name
    return _from_list(rows, context, f"{len(rows)} profiles are in {country}")


def _from_list(rows: list[ProfileRow], context: Context, why: str) -> str:
    """Ask, on a terminal; elsewhere nothing is guessed."""
    if not rows:
        raise NotFound("there is no profile to choose from", next_step="Import a kit first: zesty import KIT.")
    if not sys.stdin.isatty():
        names = ", ".join(row.name for row in rows[:5])
        raise UsageError(why, next_step=f"Name one, for example {names}; `{LAST}` is the one used last.")
    while True:
        _show(rows, context)
        try:
            said = context.reporter.ask_or_end(
                f"Number, letters to narrow the list down, or Enter for {rows[0].name}: "
            )
        except EOFError:
            raise UsageError(why, next_step="Name one; see `zesty list`.") from None
        said = said.strip()
        if not said:
            return rows[0].name
        if said.isdigit() and 1 <= int(said) <= min(len(rows), MOST_SHOWN):
            return rows[int(said) - 1].name
        found = matching(rows, said.split())
        if len(found) == 1:
            return found[0].name
        if found:
            rows = found
        else:
            context.reporter.note(f"No profile has {said!r:.40} in its name, place, provider or tags.")


def _show(rows: list[ProfileRow], context: Context) -> None:
    table = Table(Column(right=True, whole=True), Column(whole=True, style="bold"), Column(), Column())
    for number, row in enumerate(rows[:MOST_SHOWN], start=1):
        place = ", ".join(part for part in (row.city, row.country) if part)
        mark = LAST if row.name == last_used(context) else FAVOURITE if FAVOURITE in row.tags.split() else ""
        table.add_row(str(number), row.name, place, mark)
    context.reporter.live.print(Indented(table))
    if len(rows) > MOST_SHOWN:
        context.reporter.note(f"  and {len(rows) - MOST_SHOWN} more")
