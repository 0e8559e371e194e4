"""Which resolvers asked for which one-time names: bounded, the oldest runs are forgotten first."""

from __future__ import annotations

from collections import OrderedDict

from zesty_burrow.core.dns.zone import Question
from zesty_burrow.records import dataclass, field

MAX_RUNS = 4096
MAX_SEEN = 512


@dataclass(frozen=True, slots=True)
class Seen:
    """One question: who asked, over what, when (RFC 3339), and for which client's network (RFC 7871)."""

    name: str
    type: str
    resolver: str
    transport: str
    at: str
    subnet: str = ""


@dataclass(slots=True)
class Memory:
    """For as many runs as fit."""

    _runs: OrderedDict[str, list[Seen]] = field(default_factory=OrderedDict)

    def __len__(self) -> int:
        return len(self._runs)

    def remember(self, question: Question, resolver: str, transport: str, at: str) -> None:
        rows = self._runs.setdefault(question.token, [])
        if len(rows) < MAX_SEEN:
            rows.append(Seen(question.name, question.type, resolver, transport, at, question.subnet))
        while len(self._runs) > MAX_RUNS:
            self._runs.popitem(last=False)

    def recall(self, token: str) -> list[Seen]:
        """All questions of a run."""
        return list(self._runs.get(token, ()))
