"""The record of the guard: who holds it closed. A plan that outlives processes and restarts, not evidence.

What cannot be read as a record fails closed: somebody may have held everything.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from zesty_burrow.errors import DiskFull
from zesty_burrow.host.guard.plan import EVERYTHING, Share
from zesty_burrow.host.journal.lock import boot_id, open_journal
from zesty_burrow.host.namespaces import network_identity
from zesty_burrow.host.replace_file import replace_file
from zesty_burrow.records import dataclass, field

BY_USER = "user"
"""The key of the share that the user has set, with or without a tunnel; a tunnel's is its own."""
AT_START = "at start "
"""Begins the key of a share that is held from the machine's start on, until its tunnel is up."""
LONGEST = 4 << 20


@dataclass(frozen=True, slots=True)
class GuardRecord:
    """``shares`` by key, as they count here and now; ``at_start``: by profile, what is held from the next start of the
    machine on. ``damaged``: why the file is no record, empty where it is one. ``is_there``: there is a file.
    """

    shares: Mapping[str, Share] = field(default_factory=dict)
    at_start: Mapping[str, Share] = field(default_factory=dict)
    damaged: str = ""
    is_there: bool = False


def unknown_holder(why: str) -> Share:
    """A share for holders that are not known: everything, until the user opens it."""
    return Share(EVERYTHING, "", "holders that are not known", why=why)


def read_record(path: Path) -> GuardRecord:
    """The record as far as it counts on this start of the machine and in this network namespace.

    Raises :class:`StateError` where the file is another user's.
    """
    try:
        descriptor = open_journal(path)
    except FileNotFoundError:
        # Also where there is no folder of ours yet.
        return GuardRecord()
    with os.fdopen(descriptor, "rb") as stream:
        try:
            octets = stream.read(LONGEST + 1)
        except OSError as problem:
            return GuardRecord(damaged=problem.strerror or str(problem), is_there=True)
    try:
        document = json.loads(octets)
        shares = {str(key): Share.of(one) for key, one in document["shares"].items()}
        at_start = {str(key): Share.of(one) for key, one in document.get("at_start", {}).items()}
        here = (document.get("boot"), document.get("network")) == (boot_id(), network_identity())
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return GuardRecord(damaged="it is not a record of the guard", is_there=True)
    if not here:
        # What a tunnel held before counts no more: its routes are gone with that start of the machine.
        shares = {key: share for key, share in shares.items() if key == BY_USER}
        if document.get("boot") != boot_id():
            # What the user holds is the user's at once; a tunnel's is held until it is up.
            shares |= {name if name == BY_USER else AT_START + name: share for name, share in at_start.items()}
    return GuardRecord(shares, at_start, is_there=True)


def write_record(path: Path, shares: Mapping[str, Share], at_start: Mapping[str, Share]) -> None:
    """Replace the record at once; without anything to record the file is removed. :class:`DiskFull` or ``OSError``."""
    if not shares and not at_start:
        path.unlink(missing_ok=True)
        return
    document: dict[str, Any] = {"boot": boot_id(), "network": network_identity()}
    document["shares"] = {key: share.document() for key, share in shares.items()}
    document["at_start"] = {name: share.document() for name, share in at_start.items()}
    try:
        replace_file(path, json.dumps(document).encode(), 0o600)
    except OSError as problem:
        raise DiskFull.by(problem, path, "the guard was not changed") or problem from None
