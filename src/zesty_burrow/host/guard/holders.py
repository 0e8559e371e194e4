"""Who holds the guard closed, and what becomes of what each holds. Values; only whose process lives is asked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from zesty_burrow.host.guard.plan import Share
from zesty_burrow.host.guard.record import BY_USER
from zesty_burrow.host.journal.lock import is_held
from zesty_burrow.records import replace

Shares = Mapping[str, Share]


def holding(shares: Shares) -> dict[str, Share]:
    """The shares that hold something."""
    return {key: share for key, share in shares.items() if share.held}


def is_living(share: Share) -> bool:
    """Whether a process carries the share's tunnel."""
    return bool(share.journal) and is_held(Path(share.journal))


def with_share(shares: Shares, key: str, share: Share) -> dict[str, Share]:
    """A share is put. Shares of dead tunnels that it covers are taken over; what others of them hold stays closed."""
    found = dict(shares)
    for other, known in shares.items():
        if other == key or BY_USER in (key, other):
            continue
        if known.journal == share.journal:
            # Its tunnel is dead: the journal is the new one's.
            known = replace(known, journal="")
        if is_living(known):
            continue
        if share.covers(known):
            del found[other]
        else:
            # What it was killed with stays open for nobody.
            found[other] = known.closed(known.why or "its process ended")
    found[key] = share
    return found


def without(shares: Shares, keys: Iterable[str]) -> dict[str, Share]:
    """These shares are released, and all whose tunnel's process is dead."""
    gone = {*keys, *(key for key, one in shares.items() if key != BY_USER and not is_living(one))}
    return {key: share for key, share in shares.items() if key not in gone}


def unconfirmed(shares: Shares, now: float) -> list[str]:
    """The keys of shares whose time to be confirmed is over. ``now``: seconds of CLOCK_BOOTTIME."""
    return [key for key, share in shares.items() if share.confirm_by and now >= share.confirm_by]


def next_deadline(shares: Shares) -> float:
    """When the next share has to be confirmed, by CLOCK_BOOTTIME; infinite where none has to be."""
    return min((share.confirm_by for share in shares.values() if share.confirm_by), default=float("inf"))
