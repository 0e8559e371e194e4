"""What a command gives back: data first. Text and JSON are two renderings of it."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar

from zesty_burrow.core.leak import Judgement, Observation, Verdict

if TYPE_CHECKING:
    # Types alone: a command that needs none of these rooms must not wait for them.
    from zesty_burrow.carrier.control.status import TunnelStatus
    from zesty_burrow.carrier.supervisor import TunnelEnd
    from zesty_burrow.core.finding import Code, Finding
    from zesty_burrow.core.policy.suite import Suite
    from zesty_burrow.core.profile import Profile
    from zesty_burrow.core.rehearsal import Rehearsal
    from zesty_burrow.host.journal import Restored
    from zesty_burrow.intake.import_plan import ProfileDifference
    from zesty_burrow.intake.kit import Kit
    from zesty_burrow.profiles.advice import Advice

FORMAT = 1
EXIT_LEAKING, EXIT_UNCLEAR, EXIT_NOT_ALL_FIT = 10, 11, 12
EXIT_INTERRUPTED = 130


def finding_document(entry: Finding) -> dict[str, str]:
    """A finding as plain values."""
    return {
        "code": entry.code.slug,
        "severity": str(entry.severity),
        "subject": entry.subject,
        "detail": entry.detail,
        "title": entry.code.title,
        "remedy": entry.code.remedy,
    }


@dataclass(frozen=True)
class Result:
    """Base of all results; ``kind`` names the document."""

    kind: ClassVar[str] = ""

    @property
    def exit_code(self) -> int:
        """What the program ends with."""
        return 0

    def content(self) -> dict[str, Any]:
        """The document's own keys."""
        return asdict(self)

    def document(self) -> dict[str, Any]:
        """The whole versioned document."""
        return {"format": FORMAT, "result": self.kind, **self.content()}


@dataclass(frozen=True)
class Silent(Result):
    """Nothing to say but an exit code: the command that was run has spoken for itself."""

    code: int = 0
    kind: ClassVar[str] = "silent"

    @property
    def exit_code(self) -> int:
        return self.code


@dataclass(frozen=True)
class KitResult(Result):
    """``inspect`` and ``import``; ``outcomes``: what became of each profile in the store.

    ``asked``: the user has seen the differences and has chosen.
    """

    kit: Kit
    imported: bool
    outcomes: dict[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    differences: tuple[ProfileDifference, ...] = ()
    asked: bool = False
    whom: str = ""
    kind: ClassVar[str] = "kit"

    def content(self) -> dict[str, Any]:
        from zesty_burrow.core.credentials import kind_of

        return {
            "imported": self.imported,
            "profiles": [
                {
                    "name": entry.profile.name,
                    "provider": entry.profile.provider,
                    "country": entry.profile.country,
                    "city": entry.profile.city,
                    "protocol": entry.profile.tunnel.protocol,
                    "digest": entry.digest,
                    "path": entry.path,
                    "outcome": self.outcomes.get(entry.profile.name, ""),
                }
                for entry in self.kit.profiles
            ],
            "credentials": [
                {
                    "label": entry.scope.label,
                    "device": entry.scope.device,
                    "profile": entry.scope.profile,
                    "kind": str(kind_of(entry.value)),
                    "path": entry.path,
                }
                for entry in self.kit.credentials
            ],
            "files": [
                {"path": item.path, "kind": str(item.kind), "taken": item.taken, "why": item.why}
                for item in self.kit.items
            ],
            "differences": [
                {"name": one.name, "relation": str(one.relation), "changes": [asdict(change) for change in one.changes]}
                for one in self.differences
            ],
            "findings": [finding_document(entry) for entry in self.findings],
        }


@dataclass(frozen=True)
class ListResult(Result):
    """``list``; each row has ``for``: whose store it is in."""

    profiles: tuple[dict[str, str], ...]
    kind: ClassVar[str] = "profiles"


@dataclass(frozen=True)
class ShowResult(Result):
    """``show``; ``credentials``: what would be used, by kind, and what is missing; never a secret."""

    profile: Profile
    text: str
    imported_at: str
    origin: str
    whom: str
    credentials: tuple[dict[str, str], ...]
    findings: tuple[Finding, ...]
    revocation_lists: tuple[str, ...] = ()
    kind: ClassVar[str] = "profile"

    def content(self) -> dict[str, Any]:
        import tomllib

        return {
            "profile": tomllib.loads(self.text),
            "imported_at": self.imported_at,
            "origin": self.origin,
            "for": self.whom,
            "revocation_lists": list(self.revocation_lists),
            "credentials": list(self.credentials),
            "findings": [finding_document(entry) for entry in self.findings],
        }


@dataclass(frozen=True)
class CreateResult(Result):
    """``create``; ``missing``: the kind of credentials that it still needs; ``slips``: what they may hold."""

    profile: Profile
    text: str
    findings: tuple[Finding, ...]
    missing: str
    slips: tuple[str, ...]
    kind: ClassVar[str] = "created"

    def content(self) -> dict[str, Any]:
        import tomllib

        return {
            "profile": tomllib.loads(self.text),
            "findings": [finding_document(entry) for entry in self.findings],
            "missing": self.missing,
            "slips": list(self.slips),
        }


@dataclass(frozen=True)
class PlacesResult(Result):
    """``portal``: what a provider's portal offers."""

    portal: str
    places: tuple[dict[str, Any], ...]
    recommended: str
    reason: str
    kind: ClassVar[str] = "places"


@dataclass(frozen=True)
class RemoveResult(Result):
    """``remove``."""

    removed: tuple[str, ...]
    forgotten: tuple[str, ...]
    kind: ClassVar[str] = "removed"


@dataclass(frozen=True)
class CredentialsResult(Result):
    """``credentials list``."""

    credentials: tuple[dict[str, Any], ...]
    kind: ClassVar[str] = "credentials"


@dataclass(frozen=True)
class ExportResult(Result):
    """``export``; ``left_out``: what the form cannot hold."""

    files: tuple[str, ...]
    profiles: tuple[str, ...]
    credentials: tuple[str, ...]
    left_out: tuple[str, ...] = ()
    kind: ClassVar[str] = "exported"


@dataclass(frozen=True)
class CodeResult(Result):
    """``export --show-code``: QR codes as the terminal draws them."""

    profile: str
    codes: tuple[str, ...]
    credentials: tuple[str, ...]
    kind: ClassVar[str] = "code"


@dataclass(frozen=True)
class TextResult(Result):
    """Lines that are meant for another program."""

    text: str
    kind: ClassVar[str] = "text"


@dataclass(frozen=True)
class UpResult(Result):
    """``connect`` in the background: the tunnel is up."""

    status: TunnelStatus
    kind: ClassVar[str] = "up"

    def content(self) -> dict[str, Any]:
        return {"tunnel": self.status.document()}


@dataclass(frozen=True)
class EndResult(Result):
    """A tunnel that was in the foreground has ended."""

    status: TunnelStatus
    end: TunnelEnd
    kind: ClassVar[str] = "ended"

    def content(self) -> dict[str, Any]:
        return {
            "tunnel": self.status.document(),
            "reason": self.end.reason,
            "restored": list(self.end.restored.done),
            "left_alone": list(self.end.restored.left_alone),
        }


@dataclass(frozen=True)
class StatusResult(Result):
    """``status``; ``tunnel`` is None where none is up. ``network`` only if it was asked for."""

    tunnel: TunnelStatus | None
    state: str
    findings: tuple[Finding, ...] = ()
    network: tuple[str, ...] | None = None
    kind: ClassVar[str] = "status"

    def content(self) -> dict[str, Any]:
        document: dict[str, Any] = {
            "tunnel": self.tunnel.document() if self.tunnel else None,
            "state": self.state,
            "findings": [finding_document(entry) for entry in self.findings],
        }
        return document if self.network is None else {**document, "network": list(self.network)}


@dataclass(frozen=True)
class DisconnectResult(Result):
    """``disconnect``."""

    profile: str
    kind: ClassVar[str] = "disconnected"


@dataclass(frozen=True)
class RestoreResult(Result):
    """``restore``."""

    restored: Restored
    kind: ClassVar[str] = "restored"

    def content(self) -> dict[str, Any]:
        return {"done": list(self.restored.done), "left_alone": list(self.restored.left_alone)}


@dataclass(frozen=True)
class BaselineResult(Result):
    """``verify --before``."""

    observation: Observation
    kind: ClassVar[str] = "baseline"

    def content(self) -> dict[str, Any]:
        return {"observation": asdict(self.observation)}


@dataclass(frozen=True)
class VerifyResult(Result):
    """``verify``: the exit code is the verdict."""

    profile: str
    promise: str
    before: Observation | None
    after: Observation
    judgement: Judgement
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
            "before": asdict(self.before) if self.before else None,
            "after": asdict(self.after),
            "findings": [finding_document(entry) for entry in self.judgement.findings],
        }


def rehearsal_document(seen: Rehearsal) -> dict[str, Any]:
    """A rehearsal as plain values; times are seconds."""

    return {
        "profile": seen.profile,
        "provider": seen.provider,
        "country": seen.country,
        "city": seen.city,
        "gateway": seen.gateway,
        "verdict": str(seen.verdict),
        "step_reached": seen.steps[-1].step if seen.steps else "",
        "steps": [{"step": entry.step, "seconds": round(entry.seconds, 6)} for entry in seen.steps],
        "seconds": round(seen.seconds, 6),
        "round_trip": round(seen.round_trip, 6),
        "ike": str(seen.ike) if seen.ike else "",
        "esp": str(seen.esp) if seen.esp else "",
        "strength": seen.strength,
        "exit4": asdict(seen.exit4),
        "exit6": asdict(seen.exit6),
        "resolvers": [asdict(entry) for entry in seen.resolvers],
        "carries_outside": seen.carries_outside,
        "failure": asdict(seen.failure) if seen.failure else None,
        "findings": [finding_document(entry) for entry in seen.findings],
    }


def _suite_document(suite: Suite | None, bits: int) -> dict[str, Any] | None:

    return {"algorithms": str(suite), "bits": bits} if suite is not None else None


@dataclass(frozen=True)
class AdviceResult(Result):
    """``advise``; ``silent``: gateways that did not answer, by profile, and why."""

    advice: tuple[Advice, ...]
    policy: str
    device: str
    silent: dict[str, str]
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
                    "questions": one.capabilities.questions if one.capabilities else 0,
                    "findings": [finding_document(entry) for entry in one.findings],
                }
                for one in self.advice
            ],
        }


@dataclass(frozen=True)
class RehearsalResult(Result):
    """``rehearse``; ``wanted``: how many were to be gone through."""

    rehearsals: tuple[Rehearsal, ...]
    wanted: int
    interrupted: bool
    kind: ClassVar[str] = "rehearsal"

    @property
    def exit_code(self) -> int:
        from zesty_burrow.core.rehearsal import Fitness

        if self.interrupted:
            return EXIT_INTERRUPTED
        return 0 if all(one.verdict is Fitness.FIT for one in self.rehearsals) else EXIT_NOT_ALL_FIT

    def content(self) -> dict[str, Any]:
        from zesty_burrow.core.rehearsal import group_failures, recommend

        return {
            "rehearsals": [rehearsal_document(one) for one in self.rehearsals],
            "failures": [asdict(row) for row in group_failures(self.rehearsals)],
            "recommended": {choice: one.profile for choice, one in recommend(self.rehearsals).items()},
            "wanted": self.wanted,
            "interrupted": self.interrupted,
        }


@dataclass(frozen=True)
class ExplainResult(Result):
    """``explain``."""

    codes: tuple[Code, ...]
    kind: ClassVar[str] = "explanation"

    def content(self) -> dict[str, Any]:
        return {"codes": [{**asdict(entry), "severity": str(entry.severity)} for entry in self.codes]}


@dataclass(frozen=True)
class LabResult(Result):
    """``lab start`` and ``lab status``."""

    status: dict[str, Any]
    kit: str
    kind: ClassVar[str] = "lab"


@dataclass(frozen=True)
class MessageResult(Result):
    """A sentence, where there is nothing more to say."""

    message: str
    code: int = 0
    kind: ClassVar[str] = "message"

    @property
    def exit_code(self) -> int:
        return self.code

    def content(self) -> dict[str, Any]:
        return {"message": self.message}
