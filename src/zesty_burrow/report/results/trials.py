"""What profiles could negotiate, and what happened when they were tried."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.records import asdict, dataclass
from zesty_burrow.report.results.base import EXIT_INTERRUPTED, EXIT_NOT_ALL_FIT, Result

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.core.policy.suite import Suite
    from zesty_burrow.core.rehearsal import Rehearsal
    from zesty_burrow.profiles.advising.advice import Advice
    from zesty_burrow.profiles.ways import WayAnswer


def _suite_document(suite: Suite | None, bits: int) -> dict[str, Any] | None:

    return {"algorithms": str(suite), "bits": bits} if suite is not None else None


def _way_document(answer: WayAnswer) -> dict[str, Any]:
    return {
        "protocol": answer.protocol,
        "over": answer.over,
        "port": answer.port,
        "answered": answer.answered,
        "seconds": round(answer.seconds, 6),
        "algorithms": str(answer.suite) if answer.suite else "",
        "bits": answer.bits,
        "told": answer.words,
        "against": answer.against,
        "known_to_device": answer.known,
    }


@dataclass(frozen=True)
class AdviceResult(Result):
    """``advise``; ``silent``: gateways that did not answer, by profile, and why; ``ways``: of the one gateway."""

    advice: tuple[Advice, ...]
    policy: str
    device: str
    silent: dict[str, str]
    ways: tuple[WayAnswer, ...] = ()
    shown_by: ClassVar[str] = "advice"
    kind: ClassVar[str] = "advice"

    def content(self) -> dict[str, Any]:
        return {
            "policy": self.policy,
            "device": self.device,
            "advice": [
                {
                    "profile": one.profile,
                    "place": one.place,
                    "gateway": one.gateway,
                    "device": one.device,
                    "asked": one.asked,
                    "answered": one.answered,
                    "silent": self.silent.get(one.profile, ""),
                    "would": _suite_document(one.would, one.would_bits),
                    "should": _suite_document(one.should, one.should_bits),
                    "reasons": [asdict(reason) for reason in one.reasons],
                    "obstacles": list(one.obstacles),
                    "algorithms": [{"name": row.name, **asdict(row)} for row in one.rows],
                    "questions": one.answer.questions if one.answer else 0,
                    "findings": [entry.document() for entry in one.findings],
                }
                for one in self.advice
            ],
            "ways": [_way_document(way) for way in self.ways],
            "best_way": self._best_way(),
        }

    def _best_way(self) -> str:
        from zesty_burrow.profiles.ways import best_way

        found = best_way(self.ways)
        return found[0].name if found else ""


@dataclass(frozen=True)
class RehearsalResult(Result):
    """``rehearse``; ``wanted``: how many were to be gone through."""

    rehearsals: tuple[Rehearsal, ...]
    wanted: int
    interrupted: bool
    shown_by: ClassVar[str] = "rehearsals"
    kind: ClassVar[str] = "rehearsal"

    @property
    def exit_code(self) -> int:
        from zesty_burrow.core.rehearsal import Fitness

        if self.interrupted:
            return EXIT_INTERRUPTED
        return 0 if all(rehearsal.verdict is Fitness.FIT for rehearsal in self.rehearsals) else EXIT_NOT_ALL_FIT

    def content(self) -> dict[str, Any]:
        from zesty_burrow.core.rehearsal import group_failures, recommend

        return {
            "rehearsals": [rehearsal.document() for rehearsal in self.rehearsals],
            "failures": [asdict(row) for row in group_failures(self.rehearsals)],
            "recommended": {choice: one.profile for choice, one in recommend(self.rehearsals).items()},
            "wanted": self.wanted,
            "interrupted": self.interrupted,
        }
