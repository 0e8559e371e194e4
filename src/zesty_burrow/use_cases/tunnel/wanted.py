"""Which profile ``connect`` means: by name, place, country, an earlier rehearsal, or the one used last."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from zesty_burrow.errors import NotFound
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.records import dataclass
from zesty_burrow.store.rows import ProfileRow, in_place
from zesty_burrow.use_cases.tunnel.last_used import last_used
from zesty_burrow.use_cases.workspace import Workspace

LAST, FAVOURITE = "last", "favourite"
"""The word for the profile that was used last; the tag by which profiles come first in a list."""
BY_REHEARSAL = ("nearest", "fastest", "strongest")


@dataclass(frozen=True, slots=True)
class Wanted:
    """``name``: the profile; or ``candidates``, the likeliest first, and ``why`` one of them has to be chosen."""

    name: str = ""
    candidates: tuple[ProfileRow, ...] = ()
    why: str = ""


def remember(name: str, workspace: Workspace) -> None:
    """Note that this profile was used last. If that cannot be written, the tunnel is up all the same."""
    with suppress(OSError):
        replace_file(workspace.paths.last_profile, f"{name}\n".encode(), 0o600)


def find_wanted(word: str | None, workspace: Workspace) -> Wanted:
    """The profile that a word means: a name, a place, a country's two letters, ``last``, ``nearest`` and the like.

    None means any. Raises :class:`NotFound` if nothing fits.
    """
    if word is None:
        return _among(_in_order(workspace.list_profiles(), workspace), "no profile is named")
    if any(row.name == word for _, row in workspace.list_profiles([word])):
        return Wanted(word)
    if word == LAST:
        name = last_used(workspace)
        if not name:
            raise NotFound("no profile was used yet", next_step="Name one; see `zesty list`.")
        workspace.interaction.note(f"The one used last is {name}.")
        return Wanted(name)
    if word in BY_REHEARSAL:
        return Wanted(_by_rehearsal(word, workspace))
    if len(word) == 2 and word.isascii() and word.isalpha():
        country = word.upper()
        rows = _in_order([pair for pair in workspace.list_profiles() if pair[1].country == country], workspace)
        if len(rows) == 1:
            return Wanted(rows[0].name)
        if rows:
            return _among(rows, f"{len(rows)} profiles are in {country}")
    pairs = workspace.list_profiles()
    there = in_place([row for _, row in pairs], word)
    if len({row.name for row in there}) > 1:
        rows = _in_order([pair for pair in pairs if pair[1] in there], workspace)
        return _among(rows, f"{len(rows)} profiles are in {word}")
    return Wanted(word)


def _among(rows: list[ProfileRow], why: str) -> Wanted:
    if not rows:
        raise NotFound("there is no profile to choose from", next_step="Import a kit first: zesty import KIT")
    return Wanted(candidates=tuple(rows), why=why)


def _by_rehearsal(word: str, workspace: Workspace) -> str:
    """What the latest rehearsal found to be the nearest, fastest or strongest."""
    # Slow to load, and seldom needed.
    from zesty_burrow.core.rehearsal import recommend
    from zesty_burrow.use_cases.tunnel.rehearse import latest_rehearsals

    taken_at, rehearsals = latest_rehearsals(workspace)
    best = recommend(rehearsals).get(word)
    if best is None:
        why = f"none was fit in the rehearsal of {taken_at}" if taken_at else "nothing has been rehearsed yet"
        raise NotFound(f"no rehearsal tells which profile is the {word}", why=why, next_step="Run `zesty rehearse`.")
    workspace.interaction.note(f"The {word} is {best.profile}, by the rehearsal of {taken_at}.")
    return best.profile


def _in_order(rows: Sequence[tuple[str, ProfileRow]], workspace: Workspace) -> list[ProfileRow]:
    """The one used last, favourites, the others by name; each name once."""
    last = last_used(workspace)
    known = {row.name: row for _, row in reversed(rows)}
    return sorted(known.values(), key=lambda row: (row.name != last, FAVOURITE not in row.tags.split(), row.name))
