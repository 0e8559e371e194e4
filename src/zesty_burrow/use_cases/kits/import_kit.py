"""Inspect a kit, or store its profiles and credentials: all of it or nothing."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from typing import TYPE_CHECKING

from zesty_burrow.core.credentials import kind_of
from zesty_burrow.core.finding import Finding, Severity
from zesty_burrow.errors import InputError
from zesty_burrow.intake.import_plan import KEEP, ImportPlan, ProfileDifference
from zesty_burrow.intake.kit import Kit
from zesty_burrow.intake.read_kit import refuse_empty
from zesty_burrow.records import dataclass, field, replace
from zesty_burrow.use_cases.kits.read import KitRequest, judged_by_policy, read_kit_sources
from zesty_burrow.use_cases.kits.settle import SettleRequest
from zesty_burrow.use_cases.workspace import Workspace

if TYPE_CHECKING:
    from zesty_burrow.use_cases.kits.authorities import AuthorityRequest
    from zesty_burrow.use_cases.kits.differing import DifferingRequest
    from zesty_burrow.use_cases.profiles.edit import ChangedProfile


@dataclass(frozen=True, slots=True)
class ComparedKit:
    """A kit beside the store. ``outcomes``: by the profiles' names; ``differences``: stored and new ones that differ.

    ``authorities``: profiles that got the kit's authority, where it holds nothing else.
    """

    kit: Kit
    outcomes: dict[str, str] = field(default_factory=dict)
    findings: tuple[Finding, ...] = ()
    differences: tuple[ProfileDifference, ...] = ()
    authorities: tuple[ChangedProfile, ...] = ()


def inspect_kit(request: KitRequest, workspace: Workspace) -> ComparedKit:
    """Read, judge and compare; change nothing. Raises what :func:`read_kit_sources` raises."""
    kit = read_kit_sources(request, workspace)
    with ExitStack() as stack:
        store = stack.enter_context(workspace.store()) if workspace.has_store() else None
        plan = ImportPlan(store, lambda _: KEEP)
        plan.take_profiles(kit)
    outcomes = {name: "differs" if word == "left out" else word for name, word in plan.outcomes.items()}
    findings = (*kit.findings, *plan.findings, *judged_by_policy(kit, workspace))
    return ComparedKit(kit, outcomes, findings, tuple(plan.differences))


@dataclass(frozen=True, slots=True)
class ImportRequest:
    """``decide``: keep, replace or both, for a profile that differs from the stored one.

    ``strict``: store nothing if there is a warning or an error. ``ask_gateways``: of an authority by itself.
    """

    kit: KitRequest
    decide: Callable[[ProfileDifference], str] = field(default=lambda _: KEEP)
    differing: DifferingRequest | None = None
    settle: SettleRequest = field(default_factory=SettleRequest)
    ask_gateways: bool = False
    strict: bool = False


def import_kit(request: ImportRequest, workspace: Workspace) -> ComparedKit:
    """Read everything, then store it in one transaction.

    Raises what :func:`read_kit_sources` raises, and :class:`InputError` for an empty kit or by ``strict``.
    """
    kit_request = request.kit
    if kit_request.profile:
        with workspace.store() as store:
            kit_request = replace(kit_request, profile=store.find_profile(kit_request.profile)[1].name)
    kit = read_kit_sources(kit_request, workspace)
    if kit.is_empty and kit.authorities:
        from zesty_burrow.use_cases.kits.authorities import put_in

        return ComparedKit(kit, authorities=put_in(kit, _authority_request(request), workspace))
    if kit.is_empty:
        refuse_empty(kit)
    from zesty_burrow.use_cases.kits.settle import settled

    return _store(settled(kit, request.settle, workspace), request, workspace)


def _authority_request(request: ImportRequest) -> AuthorityRequest:
    from zesty_burrow.use_cases.kits.authorities import AuthorityRequest

    kit = request.kit
    return AuthorityRequest(kit.profile, kit.provider, request.ask_gateways, request.settle.bad_certificates)


def _store(kit: Kit, request: ImportRequest, workspace: Workspace) -> ComparedKit:
    from zesty_burrow.use_cases.kits.differing import DifferingCredentials, DifferingRequest
    from zesty_burrow.use_cases.kits.settle import is_asked, missing_credentials

    differing = DifferingCredentials(kit, request.differing or DifferingRequest(), workspace)
    with workspace.store() as store:
        plan = ImportPlan(store, request.decide, differing.decide)
        plan.take(kit)
        findings: list[Finding] = [*kit.findings, *plan.findings, *judged_by_policy(kit, workspace)]
        if request.strict:
            _refuse_warnings(findings)
        if is_asked(request.settle, workspace):
            have = {(row.kind, row.label) for row in store.list_credentials()}
            have |= {(str(kind_of(value)), scope.label) for scope, value, _ in plan.secrets}
            new = [made.profile for made in plan.taken.values() if plan.outcomes.get(made.profile.name) == "new"]
            entered = missing_credentials(new, have, workspace)
            plan.secrets += entered
            if entered:
                findings = [entry for entry in findings if entry.code.slug != "kit-no-credentials"]
        store.take_kit(plan.taken.values(), plan.secrets, replacing=plan.replacing, what=f"import {kit.origin}")
    return ComparedKit(kit, plan.outcomes, tuple(findings), tuple(plan.differences))


def _refuse_warnings(findings: list[Finding]) -> None:
    notable = [entry for entry in findings if entry.severity is not Severity.NOTE]
    if notable:
        shown = "; ".join(f"{entry.code.slug} in {entry.subject}" for entry in notable[:5])
        raise InputError(
            "nothing was imported, because of --strict",
            why=shown,
            next_step="Correct what the findings name, or import without --strict.",
            slug="strict",
        )
