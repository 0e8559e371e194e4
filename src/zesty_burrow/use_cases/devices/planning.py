"""In which form each device gets its profile, or why it cannot: decided before anything is sent."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from zesty_burrow.fleet.standing import Standing
from zesty_burrow.use_cases.devices.forms import FORMS
from zesty_burrow.use_cases.devices.plan import Plan, Work
from zesty_burrow.use_cases.devices.request import HandOverRequest

if TYPE_CHECKING:
    from zesty_burrow.core.profile import Profile

OTHER_CREDENTIALS = "credentials: changed since"
NOT_KEPT = "not known: the edition there is not kept here any more"


def plan_all(chosen: Sequence[Standing], work: Work, request: HandOverRequest) -> list[Plan]:
    """How each device gets its profile, or why it cannot; and what that changes there."""
    older = {entry.last.digest for entry in chosen if entry.has_another and entry.last is not None}
    texts = work.fleet.texts_of(older) if older else {}
    known: dict[tuple[str, str], tuple[str, ...]] = {}
    plans = []
    for standing in chosen:
        plan = _plan(standing, work, request)
        plan.entered = standing.entered
        if standing.has_another and standing.last is not None and plan.profile is not None:
            pair = (standing.last.digest, standing.wanted)
            if pair not in known:
                known[pair] = _changes(texts.get(standing.last.digest), plan.profile)
            plan.changes = (*known[pair], *((OTHER_CREDENTIALS,) if standing.has_other_credentials else ()))
        plans.append(plan)
    return plans


def _plan(standing: Standing, work: Work, request: HandOverRequest) -> Plan:
    from zesty_burrow.fleet.client import client_of
    from zesty_burrow.profiles.advising.clients import misfits, nearest

    device = standing.device
    profile = work.profile(standing.wanted)
    plan = Plan(device, standing.wanted, digest=work.digests[standing.wanted], profile=profile)
    why = misfits(profile, client_of(device))
    if why:
        near = nearest(profile, client_of(device), work.all_profiles())
        step = f"Assign the nearest that it can: zesty devices assign {near} --device {device.name}" if near else ""
        return plan.fails("device-does-not-fit", "; ".join(why), step or "Make a profile that its client can use.")
    for form in FORMS:
        to = form.offers(device, request)
        if to:
            plan.form, plan.to = form.name, to
            problem = form.lacks(device)
            return work.with_credentials(plan, profile) if problem is None else plan.fails(*problem)
    step = "Use --link URL, --card FILE or --to FOLDER, or zesty devices change --reach"
    return plan.fails("device-no-way", "it is not reached by SSH", step)


def _changes(before: str | None, profile: Profile) -> tuple[str, ...]:
    from zesty_burrow.profiles.compare import differences
    from zesty_burrow.profiles.text import write_profile

    if before is None:
        return (NOT_KEPT,)
    return tuple(map(str, differences(before, write_profile(profile))))
