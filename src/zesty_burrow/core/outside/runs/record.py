"""A run as it is kept: its document, bounded in size, and the few facts by which runs are compared."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from zesty_burrow.records import asdict, dataclass

FORMAT = 1
LONGEST = 64 << 10
"""Octets of a run's document; what is longest and least needed is left out first."""
MOST_FINDINGS = 64
DOUBLED = 2.0
"""How many times as long a round trip has to be to be told."""


@dataclass(frozen=True, slots=True)
class RunFacts:
    """By what runs of one profile on one device are compared. ``exits``: IPv4 and IPv6 address as the outside saw them;
    ``suites``: what was negotiated, in words by what it is for; ``certificate``: until when the gateway's is valid.
    """

    verdict: str
    exits: tuple[str, ...] = ()
    operators: tuple[str, ...] = ()
    places: tuple[str, ...] = ()
    resolvers: tuple[str, ...] = ()
    suites: tuple[tuple[str, str], ...] = ()
    certificate: str = ""

    def text(self) -> str:
        """The same facts always give the same text."""
        return canonical(asdict(self)).decode()

    @classmethod
    def of(cls, text: str) -> RunFacts:
        """From what :meth:`text` gave."""
        values = json.loads(text)
        rows: dict[str, Any] = {
            key: tuple(map(_row, value)) if isinstance(value, list) else value for key, value in values.items()
        }
        return cls(**rows)


def _row(value: Any) -> Any:
    return tuple(value) if isinstance(value, list) else value


@dataclass(frozen=True, slots=True)
class RunChange:
    """``what``: "exit", "operator", "place", "resolver", "algorithm", "certificate", "verdict" or "round trip"."""

    what: str
    before: str
    after: str


def canonical(value: Any) -> bytes:
    """JSON in one form alone: sorted keys, no spaces (RFC 8785 §3.2; our documents hold texts and whole numbers, and
    numbers with a fraction as texts).
    """
    return json.dumps(_plain(value), sort_keys=True, separators=(",", ":"), ensure_ascii=False).encode()


def _plain(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {str(key): _plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    if isinstance(value, float):
        return f"{value:.6g}"
    return value


def digest(text: str) -> str:
    """Of a signed record, as the next one names it."""
    return hashlib.sha256(text.encode()).hexdigest()


def bounded(document: Mapping[str, Any]) -> dict[str, Any]:
    """A run's document of at most :data:`LONGEST` octets: what had to go is named in ``left_out``."""
    kept = dict(document)
    left_out: list[str] = []
    kept["findings"] = list(kept.get("findings", ()))[:MOST_FINDINGS]
    for path in (("ways_out", "summaries"), ("after", "signed"), ("before", "signed"), ("names", "hosts"),
                 ("ways_out", "sockets"), ("watch", "unexplained"), ("ways_out", "beside"), ("guard",), ("before",),
                 ("findings",), ("expectations",)):  # fmt: skip
        if len(canonical(kept)) <= LONGEST:
            break
        if _drop(kept, path):
            left_out.append(".".join(path))
    return {**kept, "left_out": left_out} if left_out else kept


def _drop(document: dict[str, Any], path: tuple[str, ...]) -> bool:
    holder: Any = document
    for key in path[:-1]:
        if not isinstance(holder.get(key), Mapping):
            return False
        holder[key] = dict(holder[key])
        holder = holder[key]
    return holder.pop(path[-1], None) is not None


def changes_between(earlier: RunFacts, later: RunFacts) -> Iterator[RunChange]:
    """What is different, the most important first."""
    if earlier.verdict != later.verdict:
        yield RunChange("verdict", earlier.verdict, later.verdict)
    for what, one, other in (
        ("exit", earlier.exits, later.exits),
        ("operator", earlier.operators, later.operators),
        ("place", earlier.places, later.places),
    ):
        if one != other:
            yield RunChange(what, _listed(one), _listed(other))
    if set(earlier.resolvers) != set(later.resolvers):
        yield RunChange("resolver", _listed(earlier.resolvers), _listed(later.resolvers))
    before, after = dict(earlier.suites), dict(later.suites)
    for label in dict.fromkeys((*before, *after)):
        if before.get(label, "") != after.get(label, ""):
            yield RunChange("algorithm", f"{label} {before.get(label, 'none')}", f"{label} {after.get(label, 'none')}")
    if earlier.certificate != later.certificate and earlier.certificate and later.certificate:
        yield RunChange("certificate", f"valid until {earlier.certificate}", f"valid until {later.certificate}")


def round_trip_change(earlier: float, later: float) -> RunChange | None:
    """Seconds; None where it is not twice as long, or one is not known."""
    if earlier > 0 and later > DOUBLED * earlier:
        return RunChange("round trip", f"{1000 * earlier:.0f} ms", f"{1000 * later:.0f} ms")
    return None


def _listed(words: Iterable[str]) -> str:
    return ", ".join(word for word in words if word) or "none"
