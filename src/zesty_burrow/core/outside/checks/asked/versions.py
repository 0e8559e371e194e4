"""What a check sees of IPv4 and of IPv6: evidence by "4" and "6"."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Any, TypeVar

from zesty_burrow.core.outside.checks.check import Questions
from zesty_burrow.core.outside.observation import Observation

T = TypeVar("T")
VERSIONS = (4, 6)


def by_version(observation: Observation, key: str) -> Iterator[tuple[str, Any]]:
    """The label of a version of IP, and what was seen of it, where anything was."""
    seen = observation.more.get(key)
    for version in VERSIONS:
        if isinstance(seen, Mapping) and seen.get(str(version)):
            yield f"IPv{version}", seen[str(version)]


def both(questions: Questions, question: Callable[[int], T]) -> dict[int, T]:
    """What is answered for IPv4 and for IPv6, asked at one time."""
    return dict(zip(VERSIONS, questions.together([partial(question, version) for version in VERSIONS]), strict=True))


def own_addresses(before: Observation | None) -> set[str]:
    """All addresses that the outside saw before the tunnel."""
    if before is None:
        return set()
    seen = {entry.address for entry in (before.ipv4, before.ipv6, *before.real_time)}
    return {*seen, *(address for _, address in by_version(before, "icmp"))} - {""}
