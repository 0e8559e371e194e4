"""What an observatory has done, in the OpenMetrics text format."""

from __future__ import annotations

from collections import Counter

from zesty_burrow.records import dataclass, field

CONTENT_TYPE = "application/openmetrics-text; version=1.0.0; charset=utf-8"


@dataclass(slots=True)
class Metrics:
    requests: Counter[int] = field(default_factory=Counter)
    seconds: float = 0.0
    limited: int = 0
    questions: Counter[str] = field(default_factory=Counter)
    bindings: int = 0

    def text(self, *, connections: int, evicted: int, runs: int) -> str:
        rows = [
            *_family("observatory_requests", "counter", "HTTP requests by status."),
            *(f'observatory_requests_total{{status="{code}"}} {n}' for code, n in sorted(self.requests.items())),
            *_family("observatory_request_seconds", "summary", "Time that HTTP requests took."),
            f"observatory_request_seconds_count {sum(self.requests.values())}",
            f"observatory_request_seconds_sum {self.seconds:.6f}",
            *_family("observatory_limited_requests", "counter", "HTTP requests that came too fast from one source."),
            f"observatory_limited_requests_total {self.limited}",
            *_family("observatory_connections", "gauge", "Connections that are open."),
            f"observatory_connections {connections}",
            *_family("observatory_evicted_connections", "counter", "Connections closed to make room for others."),
            f"observatory_evicted_connections_total {evicted}",
            *_family("observatory_questions", "counter", "DNS questions by transport."),
            *(f'observatory_questions_total{{transport="{one}"}} {n}' for one, n in sorted(self.questions.items())),
            *_family("observatory_bindings", "counter", "STUN binding requests."),
            f"observatory_bindings_total {self.bindings}",
            *_family("observatory_runs", "gauge", "Runs of one-time names that are remembered."),
            f"observatory_runs {runs}",
            "# EOF",
        ]
        return "\n".join(rows) + "\n"


def _family(name: str, kind: str, text: str) -> tuple[str, str]:
    return f"# TYPE {name} {kind}", f"# HELP {name} {text}"
