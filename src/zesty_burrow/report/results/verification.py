"""What the outside sees."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.core.outside.judgement import Judgement, Verdict
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.records import dataclass
from zesty_burrow.report.results.base import EXIT_LEAKING, EXIT_NOT_READY, EXIT_UNCLEAR, Result

if TYPE_CHECKING:
    from zesty_burrow.core.ways_out.names_seen import NamesSeen
    from zesty_burrow.core.ways_out.seen import WatchSeen, WaysSeen
    from zesty_burrow.host.guard.state import GuardState


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
    """``verify``: the exit code is the verdict."""

    profile: str
    promise: str
    before: Observation | None
    after: Observation
    judgement: Judgement
    guard: GuardState | None = None
    ways: WaysSeen | None = None
    watch: WatchSeen | None = None
    names: NamesSeen | None = None
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "verification"

    @property
    def exit_code(self) -> int:
        codes = {Verdict.SEALED: 0, Verdict.LEAKING: EXIT_LEAKING, Verdict.UNCLEAR: EXIT_UNCLEAR}
        return codes[self.judgement.verdict]

    def content(self) -> dict[str, Any]:
        return {
            "verdict": str(self.judgement.verdict),
            "profile": self.profile,
            "promise": self.promise,
            "before": self.before.document() if self.before else None,
            "after": self.after.document(),
            "headline": self.judgement.headline,
            "guard": self.guard.document() if self.guard else None,
            "ways_out": self.ways.document() if self.ways else None,
            "names": self.names.document() if self.names else None,
            "watch": self.watch.document() if self.watch else None,
            "expectations": [entry.document() for entry in self.judgement.expectations],
            "findings": [entry.document() for entry in self.judgement.findings],
        }


@dataclass(frozen=True)
class ReadyResult(Result):
    """``ready``: each check with ``name``, ``state``, ``found``, ``why``, ``remedy`` and ``command``."""

    checks: tuple[dict[str, Any], ...]
    shown_by: ClassVar[str] = "verification"
    kind: ClassVar[str] = "ready"

    @property
    def exit_code(self) -> int:
        return EXIT_NOT_READY if any(check["state"] == "missing" for check in self.checks) else 0
