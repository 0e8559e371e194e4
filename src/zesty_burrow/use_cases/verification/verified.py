"""What a verification has shown: values, and their document."""

from __future__ import annotations

from typing import Any

from zesty_burrow.core.outside.judgement import Judgement
from zesty_burrow.core.outside.observation import Observation
from zesty_burrow.core.outside.runs.record import RunChange
from zesty_burrow.core.ways_out.names_seen import NamesSeen
from zesty_burrow.core.ways_out.seen import WatchSeen, WaysSeen
from zesty_burrow.host.guard.state import GuardState
from zesty_burrow.records import asdict, dataclass


@dataclass(frozen=True, slots=True)
class Verified:
    """``judgement``: None for an observation before the tunnel. ``profile``: of the tunnel, empty without one.

    ``promised``: where its exit should be, in words. ``before``: what it was compared with. ``ways``, ``watch``,
    ``names``: None where no tunnel is up. ``changes``: since the run before of the same profile.
    """

    observation: Observation
    judgement: Judgement | None = None
    profile: str = ""
    promised: str = ""
    before: Observation | None = None
    guard: GuardState | None = None
    ways: WaysSeen | None = None
    watch: WatchSeen | None = None
    names: NamesSeen | None = None
    changes: tuple[RunChange, ...] = ()

    def document(self) -> dict[str, Any]:
        """As plain values, without the changes."""
        judgement = self.judgement
        return {
            "verdict": str(judgement.verdict) if judgement else "",
            "profile": self.profile,
            "promise": self.promised,
            "before": self.before.document() if self.before else None,
            "after": self.observation.document(),
            "headline": judgement.headline if judgement else "",
            "guard": self.guard.document() if self.guard else None,
            "ways_out": self.ways.document() if self.ways else None,
            "names": self.names.document() if self.names else None,
            "watch": self.watch.document() if self.watch else None,
            "expectations": [entry.document() for entry in judgement.expectations] if judgement else [],
            "findings": [entry.document() for entry in judgement.findings] if judgement else [],
        }

    def changes_document(self) -> list[dict[str, Any]]:
        return [asdict(change) for change in self.changes]
