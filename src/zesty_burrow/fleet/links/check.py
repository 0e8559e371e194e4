"""What a check page has observed in its reader's browser, and the judgement: the same as for ``zesty verify``.

The page observes, and no more: public addresses by both families, who asked for one-time names, and the addresses that
a real-time connection (WebRTC, RFC 8825) reveals. What it sends is a stranger's.
"""

from __future__ import annotations

import ipaddress
from typing import Any

from zesty_burrow.core.outside.leak import ExpectedExit, Judgement, Observation, Sighting, judge
from zesty_burrow.errors import Malformed
from zesty_burrow.observe.client import resolvers_in, sighting_of

LONGEST = 64 << 10
MAX_ITEMS, MAX_NAMES = 16, 64
PRIVATE = tuple(
    ipaddress.ip_network(one) for one in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "fc00::/7")
)
"""RFC 1918, RFC 6598, RFC 4193: what nobody outside sees."""


def observation_of(document: Any, now: str) -> Observation:
    """Raises only :class:`Malformed`."""
    if not isinstance(document, dict):
        raise Malformed("this is no observation", why="a JSON object is needed")
    found = {}
    for family in ("ipv4", "ipv6"):
        seen = document.get(family)
        found[family] = sighting_of(seen) if isinstance(seen, dict) else Sighting()
    names = document.get("names")
    names = names if isinstance(names, dict) else {}
    questions = names.get("questions")
    rows = [one for one in questions[:MAX_NAMES] if isinstance(one, dict)] if isinstance(questions, list) else []
    asked = document.get("asked")
    count = asked if isinstance(asked, int) and not isinstance(asked, bool) and 0 <= asked <= MAX_NAMES else 0
    return Observation(
        now,
        **found,
        real_time=_real_time(document.get("real_time")),
        resolvers=resolvers_in({"questions": rows}),
        names_asked=count,
        names_answered=min(len({str(one.get("name")) for one in rows}), count),
        reached=any(one.address for one in found.values()),
    )


def _real_time(rows: Any) -> tuple[Sighting, ...]:
    """Public addresses alone, each once."""
    found: dict[str, Sighting] = {}
    for row in rows[:MAX_ITEMS] if isinstance(rows, list) else []:
        seen = sighting_of(row) if isinstance(row, dict) else Sighting()
        try:
            address = ipaddress.ip_address(seen.address)
        except ValueError:
            continue
        if not (address.is_link_local or address.is_loopback or any(address in one for one in PRIVATE)):
            found.setdefault(str(address), seen)
    return tuple(found.values())


def judge_check(document: Any, promise: ExpectedExit, now: str) -> tuple[Judgement, Observation]:
    """``document``: ``before`` and ``after`` the tunnel was switched on. Raises only :class:`Malformed`."""
    if not isinstance(document, dict):
        raise Malformed("this is no observation", why="a JSON object is needed")
    after = observation_of(document.get("after"), now)
    before = observation_of(document["before"], now) if document.get("before") is not None else None
    return judge(before, after, promise), after
