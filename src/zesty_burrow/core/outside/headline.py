"""The verdict in one sentence that is true for the tunnels that are up."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from zesty_burrow.core.outside.expectations import Expectation, Standing
from zesty_burrow.core.outside.intent import Intent

LISTED = 3
OUTSIDE_ALONE = "the outside sees the tunnel's exit and nothing else"


def sealed(intents: Sequence[Intent], *, guarded: bool) -> str:
    """What is claimed where every expectation has its evidence."""
    if not intents:
        return OUTSIDE_ALONE
    parts = [_split(intent) for intent in intents if not intent.everything]
    whole = [intent for intent in intents if intent.everything]
    if whole:
        parts.append(_whole(whole[0], beside=bool(parts), guarded=guarded))
    else:
        parts.append("everything else leaves as without it, as the profile says")
    return "; ".join(parts)


def _listed(words: Iterable[str]) -> str:
    known = list(words)
    more = f" and {len(known) - LISTED} more" if len(known) > LISTED else ""
    return ", ".join(known[:LISTED]) + more


def _split(intent: Intent) -> str:
    return f"{_listed(intent.networks)} leaves by {intent.name} alone"


def _whole(intent: Intent, *, beside: bool, guarded: bool) -> str:
    rest = "all other traffic" if beside else "all traffic"
    exceptions = [*(f"the local network {network}" for network in intent.local), *intent.left_out]
    if intent.ipv6 == "outside":
        exceptions.append("IPv6")
    but = f", but for {_listed(exceptions)}" if exceptions else ""
    words = f"{rest} leaves by {intent.name} or not at all{but}"
    return words if guarded else f"{words}. The guard is off: no program was seen that names another device itself"


def unclear(rows: Sequence[Expectation], *, no_observatory: bool) -> str:
    """What is missing."""
    broken = [row for row in rows if row.standing is Standing.BROKEN]
    if broken:
        return f"it does not hold that {broken[0].what}"
    missing = [row for row in rows if row.standing is Standing.NO_EVIDENCE]
    if no_observatory and rows and any(row.standing is Standing.HELD for row in rows):
        inside = [row for row in missing if "observatory" not in row.evidence]
        if not inside:
            return "this machine lets nothing leave beside the tunnel, but nobody looked from outside"
    if missing:
        return f"there is no evidence that {missing[0].what}"
    return "the observations are not enough for a verdict"
