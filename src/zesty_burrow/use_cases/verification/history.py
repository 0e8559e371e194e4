"""Keep each verification with its evidence, signed and chained; find runs again, compare them, and check the chain."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from zesty_burrow.carrier.control.status import TunnelStatus
from zesty_burrow.core.crypto import jws
from zesty_burrow.core.finding import CODES, Severity
from zesty_burrow.core.outside.observation import Observation, Sighting
from zesty_burrow.core.outside.runs.chain import ChainProblem, check_chain, make_record
from zesty_burrow.core.outside.runs.record import (
    FORMAT,
    RunChange,
    RunFacts,
    bounded,
    changes_between,
    round_trip_change,
)
from zesty_burrow.errors import Malformed, StateError
from zesty_burrow.observe.observatory.signing import load_or_make
from zesty_burrow.records import dataclass
from zesty_burrow.store.devices import Report
from zesty_burrow.store.store import Store
from zesty_burrow.store.verifications.run_store import RunFilter, RunRow
from zesty_burrow.use_cases.verification.verified import Verified
from zesty_burrow.use_cases.workspace import Workspace

KEY = "history-key.pem"
MOST_SHOWN = 100
PAGES_APART = timedelta(minutes=1)
REPORTED = "reported by the device"
"""Headline of runs that were made elsewhere."""


@dataclass(frozen=True, slots=True)
class HistoryRequest:
    """``wanted``: which runs; ``most``: at most so many, the newest."""

    wanted: RunFilter = RunFilter()
    most: int = MOST_SHOWN


@dataclass(frozen=True, slots=True)
class History:
    """``runs``: the newest first, of ``count`` in all."""

    runs: tuple[RunRow, ...]
    count: int


@dataclass(frozen=True, slots=True)
class ChangedRun:
    """A run that differs from the one before of the same profile on the same device."""

    taken_at: str
    earlier_at: str
    device: str
    profile: str
    place: str
    changes: tuple[RunChange, ...]


@dataclass(frozen=True, slots=True)
class CheckedHistory:
    """``records``: how many were looked at, in ``chains`` chains; ``foreign``: of keys that are not known here."""

    records: int
    chains: int
    problems: tuple[ChainProblem, ...]
    foreign: int


def keep_run(seen: Verified, statuses: Sequence[TunnelStatus], workspace: Workspace) -> tuple[RunChange, ...]:
    """Add a run to the store's history; what has changed since the last one of the same profile on this device."""
    judgement = seen.judgement
    if judgement is None:
        return ()
    key = load_or_make(_key_file(workspace))
    status = statuses[0] if statuses else None
    device = workspace.device()
    facts = facts_of(str(judgement.verdict), seen.observation, status)
    trip = status.round_trip if status else 0.0
    before = seen.before
    where = before.ipv4 if before is not None else None
    place = ", ".join(part for part in (where.operator, where.place) if part) if where is not None else ""
    document = bounded({"format": FORMAT, "device": device, "place": place, **seen.document()})
    row = RunRow(
        jws.thumbprint(key.public_key()),
        0,
        seen.observation.taken_at,
        device,
        seen.profile,
        place,
        str(judgement.verdict),
        judgement.headline,
        ", ".join(facts.exits),
        facts.text(),
        trip,
    )
    with workspace.store() as store:
        earlier = store.runs.list_runs(RunFilter(profile=seen.profile, device=device), 1)
        store.runs.add(row, lambda number, previous: make_record(key, number, previous, document))
    return _changes(earlier[0].facts, earlier[0].round_trip, facts, trip) if earlier else ()


def keep_reported(
    report: Report, evidence: Mapping[str, Any], store: Store, workspace: Workspace, seen: Observation | None = None
) -> None:
    """Add what a device has reported, or what a page on it has seen. ``evidence``: what the report was made of: a
    document; this machine's signature says that it came like that, not that it is true. ``seen``: by the page;
    of those one a minute is kept for each device, as their number is up to a stranger.
    """
    if seen is not None and _is_recent(report, store):
        return
    key = load_or_make(_key_file(workspace))
    observed = seen if seen is not None else _as_observed(report)
    facts = facts_of(report.verdict, observed)
    document = bounded(
        {
            "format": FORMAT,
            "device": report.device,
            "place": "",
            "verdict": report.verdict,
            "profile": report.profile,
            "headline": REPORTED,
            "after": {**observed.document(), "taken_at": report.taken_at},
            "findings": [
                {"code": slug, "severity": _severity(slug), "subject": report.device, "detail": ""}
                for slug in report.codes
            ],
            "expectations": [],
            "reported": dict(evidence),
        }
    )
    own = (report.taken_at, report.device, report.profile, "", report.verdict, REPORTED, ", ".join(facts.exits))
    row = RunRow(jws.thumbprint(key.public_key()), 0, *own, facts.text(), 0.0)
    store.runs.add(row, lambda number, previous: make_record(key, number, previous, document))


def _is_recent(report: Report, store: Store) -> bool:
    latest = store.runs.list_runs(RunFilter(device=report.device), 1)
    if not latest:
        return False
    apart = datetime.fromisoformat(report.taken_at) - datetime.fromisoformat(latest[0].taken_at)
    return apart < PAGES_APART


def _severity(slug: str) -> str:
    """Of a code that a device has reported: reports leave out notes."""
    known = CODES.get(slug)
    return str(known.severity) if known is not None else str(Severity.WARNING)


def _as_observed(report: Report) -> Observation:
    """What a report tells of exits, each as ADDRESS (OPERATOR, CITY, COUNTRY) with what is known of it."""
    seen = {4: Sighting(), 6: Sighting()}
    for words in report.exits:
        address, _, where = words.rstrip(")").partition(" (")
        operator, *place = where.split(", ")
        country, city = (place[-1] if place else ""), ", ".join(place[:-1])
        seen[6 if ":" in address else 4] = Sighting(address, operator, country, city)
    return Observation(report.taken_at, seen[4], seen[6])


def _key_file(workspace: Workspace) -> Any:
    workspace.paths.make(workspace.paths.state)
    return workspace.paths.state / KEY


def facts_of(verdict: str, seen: Observation, status: TunnelStatus | None = None) -> RunFacts:
    """By what a run is compared with others."""
    algorithms, proof = (status.algorithms, status.proof) if status else ({}, "")
    families = [entry for entry in (seen.ipv4, seen.ipv6) if entry.address]
    return RunFacts(
        verdict,
        tuple(entry.address for entry in families),
        tuple(dict.fromkeys(entry.operator for entry in families)),
        tuple(dict.fromkeys(entry.place for entry in families)),
        tuple(entry.address for entry in seen.resolvers),
        tuple(sorted(algorithms.items())),
        proof.partition("valid until ")[2][:10],
    )


def _changes(before: str, trip: float, facts: RunFacts, now: float) -> tuple[RunChange, ...]:
    slower = round_trip_change(trip, now)
    return (*changes_between(RunFacts.of(before), facts), *([slower] if slower else []))


def list_history(request: HistoryRequest, workspace: Workspace) -> History:
    """Runs, the newest first."""
    with workspace.store() as store:
        runs = store.runs.list_runs(request.wanted, request.most)
        return History(tuple(runs), store.runs.count(request.wanted))


def changed_runs(request: HistoryRequest, workspace: Workspace) -> tuple[ChangedRun, ...]:
    """What has changed from run to run, the newest first."""
    with workspace.store() as store:
        rows = store.runs.changes(request.wanted, request.most)
    return tuple(
        ChangedRun(
            row.taken_at,
            row.earlier_at,
            row.device,
            row.profile,
            row.place,
            _changes(row.earlier_facts, row.earlier_round_trip, RunFacts.of(row.facts), row.round_trip),
        )
        for row in rows
    )


def check_history(workspace: Workspace, keys: Sequence[str] = ()) -> CheckedHistory:
    """Whether the records are as they were made: every signature, every number, every link. ``keys``: public keys of
    other devices, as text; this machine's own is always known. Raises :class:`StateError` where there is no key.
    """
    path = workspace.paths.state / KEY
    known = {jws.thumbprint(key): key for key in map(jws.public_key, keys)}
    if path.exists():
        own = load_or_make(path).public_key()
        known[jws.thumbprint(own)] = own
    if not known:
        raise StateError("there is no history to check", next_step="Run `zesty verify` first.", slug="no-history")
    by_chain: dict[str, list[tuple[RunRow, str]]] = {}
    with workspace.store() as store:
        for row, record in store.runs.records(RunFilter()):
            by_chain.setdefault(row.chain, []).append((row, record))
    problems: list[ChainProblem] = []
    for chain, rows in by_chain.items():
        if chain in known:
            problems += check_chain((record for _, record in rows), known[chain])
            problems += [problem for row, record in rows if (problem := _row_problem(row, record))]
    foreign = sum(len(rows) for chain, rows in by_chain.items() if chain not in known)
    return CheckedHistory(sum(map(len, by_chain.values())), len(by_chain), tuple(problems), foreign)


def _row_problem(row: RunRow, record: str) -> ChainProblem | None:
    """What lists show has to be what was signed."""
    import json

    try:
        run: Mapping[str, Any] = json.loads(jws.payload_of(record))["run"]
    except (Malformed, ValueError, KeyError, TypeError):
        return None
    told = (run.get("verdict"), run.get("profile"), run.get("device"), run.get("headline"))
    if told != (row.verdict, row.profile, row.device, row.headline):
        return ChainProblem(row.number, "what the list says of it is not what was signed")
    return None
