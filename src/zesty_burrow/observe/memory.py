"""Which resolvers asked for which one-time names: bounded, the oldest runs are forgotten first."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass, field

from zesty_burrow.core.dns.zone import Question

MAX_RUNS = 4096
MAX_SEEN = 512


@dataclass(frozen=True, slots=True)
class Seen:
    """One question: who asked, over what, when (RFC 3339)."""

    name: str
    type: str
    resolver: str
    transport: str
    at: str


@dataclass(slots=True)
class Memory:
    """Safe to use from several threads."""

    _runs: OrderedDict[str, list[Seen]] = field(default_factory=OrderedDict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def remember(self, question: Question, resolver: str, transport: str, at: str) -> None:
        """Note a question."""
        with self._lock:
            rows = self._runs.setdefault(question.token, [])
            if len(rows) < MAX_SEEN:
                rows.append(Seen(question.name, question.type, resolver, transport, at))
            while len(self._runs) > MAX_RUNS:
                self._runs.popitem(last=False)

    def recall(self, token: str) -> list[Seen]:
        """All questions of a run."""
        with self._lock:
            return list(self._runs.get(token, ()))
