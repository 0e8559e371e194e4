"""What the outside sees."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.core.finding import Severity
from zesty_burrow.core.outside.judgement import Judgement, Verdict
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.records import asdict, dataclass
from zesty_burrow.report.results.base import EXIT_LEAKING, EXIT_NOT_READY, EXIT_UNCLEAR, Result

if TYPE_CHECKING:
    from zesty_burrow.store.verifications.run_store import RunRow
    from zesty_burrow.use_cases.verification.audit import Audited, CheckedAudit
    from zesty_burrow.use_cases.verification.history import ChangedRun, CheckedHistory, History
    from zesty_burrow.use_cases.verification.monitor import Watched
    from zesty_burrow.use_cases.verification.transitions import Transitions
    from zesty_burrow.use_cases.verification.verified import Verified


@dataclass(frozen=True)
class BaselineResult(Result):
    """``verify --before``."""

    observation: Observation
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "baseline"

    def content(self) -> dict[str, Any]:
        return {"observation": self.observation.document()}


@dataclass(frozen=True)
class VerifyResult(Result):
    """``verify``: the exit code is the verdict. ``times``: how many runs it was the last of, where it ran again and
    again.
    """

    seen: Verified
    times: int = 1
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "verification"

    @property
    def judgement(self) -> Judgement:
        """Of a run that was judged."""
        if self.seen.judgement is None:
            raise ValueError("not judged")
        return self.seen.judgement

    @property
    def exit_code(self) -> int:
        codes = {Verdict.SEALED: 0, Verdict.LEAKING: EXIT_LEAKING, Verdict.UNCLEAR: EXIT_UNCLEAR}
        return codes[self.judgement.verdict]

    def content(self) -> dict[str, Any]:
        return {**self.seen.document(), "changes": self.seen.changes_document()}


Table = tuple[tuple[str, ...], list[dict[str, Any]]]
"""Columns and rows."""
RUN_COLUMNS = (
    "taken_at", "device", "profile", "place", "verdict", "headline", "exits", "operators", "places", "resolvers",
    "certificate", "round_trip", "chain", "number",
)  # fmt: skip
CHANGED_COLUMNS = ("taken_at", "earlier_at", "device", "profile", "place", "what", "before", "after")
FINDING_COLUMNS = ("profile", "code", "severity", "subject", "detail", "title", "remedy")


@dataclass(frozen=True)
class HistoryResult(Result):
    """``history``: runs, or with ``changed`` what has changed from run to run, or ``checked``."""

    history: History | None = None
    changed: tuple[ChangedRun, ...] | None = None
    checked: CheckedHistory | None = None
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "history"

    @property
    def exit_code(self) -> int:
        return EXIT_LEAKING if self.checked is not None and self.checked.problems else 0

    def content(self) -> dict[str, Any]:
        if self.checked is not None:
            return asdict(self.checked)
        if self.changed is not None:
            return {"changes": [asdict(row) for row in self.changed]}
        runs = self.history.runs if self.history else ()
        return {"count": self.history.count if self.history else 0, "runs": [_run(row) for row in runs]}

    def table(self) -> Table:
        """For CSV: a row for each run, or for each change."""
        if self.changed is not None:
            rows = [{**asdict(row), **asdict(one)} for row in self.changed for one in row.changes]
            return CHANGED_COLUMNS, rows
        runs = self.history.runs if self.history else ()
        return RUN_COLUMNS, [{**json.loads(row.facts), **row._asdict()} for row in runs]


@dataclass(frozen=True)
class AuditResult(Result):
    """``audit``: the report that was ``made``, or ``checked``."""

    made: Audited | None = None
    checked: CheckedAudit | None = None
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "audit"

    @property
    def exit_code(self) -> int:
        return EXIT_LEAKING if self.checked is not None and self.checked.problems else 0

    def content(self) -> dict[str, Any]:
        shown = self.made or self.checked
        values = asdict(shown) if shown is not None else {}
        return {key: str(value) if key == "file" else value for key, value in values.items()}


@dataclass(frozen=True)
class MonitorResult(Result):
    """``monitor``; ``form``: "line", "metrics", or empty for people."""

    seen: Watched
    form: str = ""
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "monitor"

    @property
    def exit_code(self) -> int:
        return {Severity.SERIOUS: EXIT_LEAKING, Severity.WARNING: EXIT_UNCLEAR}.get(self.seen.worst, 0)

    def content(self) -> dict[str, Any]:
        return {
            "profiles": self.seen.profiles,
            "worst": str(self.seen.worst),
            "findings": [entry.document() for entry in self.seen.findings],
            "runs": [_run(row) for row in self.seen.runs],
        }

    def table(self) -> Table:
        """For CSV: a row for each finding."""
        rows = [(name, entry) for name, found in self.seen.by_profile.items() for entry in found]
        return FINDING_COLUMNS, [{"profile": name, **entry.document()} for name, entry in rows]


@dataclass(frozen=True)
class TransitionsResult(Result):
    """``transitions``: the exit code says whether something left beside the tunnel, or nobody could watch."""

    seen: Transitions
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "transitions"

    @property
    def exit_code(self) -> int:
        if self.seen.watch.packets:
            return EXIT_LEAKING
        return 0 if self.seen.is_tight else EXIT_UNCLEAR

    def content(self) -> dict[str, Any]:
        return {
            "profile": self.seen.profile,
            "moments": [moment.document() for moment in self.seen.moments],
            "watch": self.seen.watch.document(),
        }


def _run(row: RunRow) -> dict[str, Any]:
    return {**row._asdict(), "facts": json.loads(row.facts)}


@dataclass(frozen=True)
class ReadyResult(Result):
    """``ready``: each check with ``name``, ``state``, ``found``, ``why``, ``remedy`` and ``command``."""

    checks: tuple[dict[str, Any], ...]
    title: str = "Is this machine ready for a tunnel?"
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "ready"

    @property
    def exit_code(self) -> int:
        return EXIT_NOT_READY if any(check["state"] == "missing" for check in self.checks) else 0
