"""What a check page has observed in its reader's browser, and the judgement: the same as for ``zesty verify``.

The page observes, and no more: public addresses by both families, who asked for one-time names, and the addresses that
a real-time connection (WebRTC, RFC 8825) reveals. What it sends is a stranger's.
"""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.outside.checks import CHECKS
from zesty_burrow.core.outside.judgement import Judgement, judge
from zesty_burrow.core.outside.observation import ExpectedExit, Observation
from zesty_burrow.errors import Malformed
from zesty_burrow.records import replace

LONGEST = 64 << 10


def observation_of(document: Any, now: str) -> Observation:
    """Raises only :class:`Malformed`."""
    if not isinstance(document, dict):
        raise Malformed("this is no observation", why="a JSON object is needed")
    seen = Observation(now)
    for check in CHECKS:
        if check.read is not None:
            seen = seen.with_evidence(check.read(document))
    return replace(seen, reached=bool(seen.ipv4.address or seen.ipv6.address))


def judge_check(document: Any, promise: ExpectedExit, now: str) -> tuple[Judgement, Observation]:
    """``document``: ``before`` and ``after`` the tunnel was switched on. Raises only :class:`Malformed`."""
    if not isinstance(document, dict):
        raise Malformed("this is no observation", why="a JSON object is needed")
    after = observation_of(document.get("after"), now)
    before = observation_of(document["before"], now) if document.get("before") is not None else None
    return judge(before, after, promise), after
