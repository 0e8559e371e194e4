"""Hand profiles over to devices: plan for each, then do it."""

from __future__ import annotations

from zesty_burrow.errors import NotFound, UsageError
from zesty_burrow.extras import is_installed, require
from zesty_burrow.fleet.standing import DeviceState, Standing
from zesty_burrow.store.devices import FAILED
from zesty_burrow.use_cases.devices.forms import FORMS, link
from zesty_burrow.use_cases.devices.forms.form import HandOver, Run
from zesty_burrow.use_cases.devices.plan import Plan, Work
from zesty_burrow.use_cases.devices.planning import plan_all
from zesty_burrow.use_cases.devices.request import HandedOver, HandOverRequest, HandOverRow
from zesty_burrow.use_cases.devices.standing import stand
from zesty_burrow.use_cases.workspace import Workspace

LONGEST_LINK = 24 * 30
"""Hours."""
MOST_AT_ONCE, LONGEST_TIMEOUT = 200, 600


def hand_over(request: HandOverRequest, workspace: Workspace) -> HandedOver:
    """Each device's result; one that fails does not stop the others.

    Raises :class:`UsageError`, :class:`NotFound`, :class:`ExtraMissing` before anything is sent.
    """
    _check(request)
    with workspace.store() as store:
        standings = stand(workspace, store, store.fleet.list_devices(request.words, **request.where))
        if not standings:
            known = [device.name for device in store.fleet.list_devices()]
            step = "See `zesty devices list`." if known else "Add one: zesty devices add NAME --kind phone"
            missing = NotFound("no device matches", next_step=step)
            raise missing.meaning(request.words[0] if request.words else "", known)
        work = Work(store, workspace, request)
        # Their state says it as well, but a run that passes over them in silence would be taken for a success.
        gone = [_gone(entry) for entry in standings if entry.handover_state is DeviceState.PROFILE_GONE]
        there = [entry for entry in standings if entry.handover_state is not DeviceState.PROFILE_GONE]
        chosen = [entry for entry in there if entry.is_left or (request.again and entry.wanted)]
        plans = plan_all(chosen, work, request)
        left = len(standings) - len(chosen) - len(gone)
        if request.dry_run:
            return HandedOver((*map(_planned, plans), *gone), left)
        used = {plan.form for plan in plans if plan.row is None}
        require(*dict.fromkeys(form.extra for form in FORMS if form.name in used and form.extra))
        done = _run(request, workspace, work, plans)
    return HandedOver((*done, *gone), left, _code(done))


def _planned(plan: Plan) -> HandOverRow:
    cells = (plan.device.name, plan.name, plan.form, "ready")
    return plan.row or HandOverRow(*cells, to=plan.to, changes=plan.changes)


def _check(request: HandOverRequest) -> None:
    if not (request.words or request.where or request.everything):
        raise UsageError("to which devices?", next_step="Name them, or use --kind, --owner, --place, --tag or --all.")
    if not 0 < request.timeout <= LONGEST_TIMEOUT:
        raise UsageError(f"--timeout {request.timeout:g} is not between 0 and {LONGEST_TIMEOUT}")
    if not 1 <= request.at_once <= MOST_AT_ONCE:
        raise UsageError(f"--at-once {request.at_once} is not between 1 and {MOST_AT_ONCE}")
    if not 1 <= request.hours <= LONGEST_LINK:
        raise UsageError(f"--hours {request.hours} is not between 1 and {LONGEST_LINK}")
    for option, url in (("--link", request.link), ("--check", request.check), ("--report", request.report)):
        if url and not url.startswith("https://"):
            raise UsageError(
                f"{option} {url!r:.80} is not a URL", next_step="It begins with https://, as browsers ask."
            )
    if request.card is not None and request.card.suffix.lower() not in (".pdf", ".html"):
        raise UsageError(f"{request.card}: cards are .pdf or .html")
    if request.card is not None and request.link:
        raise UsageError("--card and --link are two ways for the same devices", next_step="Choose one of them.")
    if request.to is not None and not request.to.is_dir():
        raise NotFound(f"there is no folder {request.to}", next_step="Name one that exists.")


def _code(rows: list[HandOverRow]) -> str:
    """To be scanned from the terminal, where there is one link and nothing else."""
    if (
        not is_installed("codes")
        or len(rows) != 1
        or rows[0].cause
        or rows[0].form != link.FORM.name
        or not rows[0].to.startswith("https://")
    ):
        return ""
    from zesty_burrow.intake.readers.codes import drawn, make_codes

    return drawn(make_codes(rows[0].to)[0])


def _gone(standing: Standing) -> HandOverRow:
    step = "Assign another: zesty devices assign PROFILE …"
    return HandOverRow(
        standing.device.name, standing.wanted, "", FAILED, "device-profile-gone", f"there is no {standing.wanted}", step
    )


def _run(request: HandOverRequest, workspace: Workspace, work: Work, plans: list[Plan]) -> list[HandOverRow]:
    rows: list[HandOverRow] = []
    forms = {form.name: form for form in FORMS}

    def ended(plan: Plan, row: HandOverRow) -> None:
        if plan.row is None:
            # What was not even tried changes nothing of where a device stands.
            work.note(plan, row, with_detail=forms[plan.form].notes_detail)
        rows.append(row)
        shown(len(rows), len(plans))

    with workspace.interaction.progress("handing over") as shown:
        possible: dict[HandOver, list[Plan]] = {}
        for plan in plans:
            if plan.row is not None:
                ended(plan, plan.row)
            else:
                possible.setdefault(forms[plan.form].hand_over, []).append(plan)
        run = Run(work, request, workspace)
        # What is written here comes first, what goes over the network last.
        for hand_over_all in reversed(dict.fromkeys(form.hand_over for form in FORMS)):
            if hand_over_all in possible:
                hand_over_all(possible[hand_over_all], run, ended)
    return sorted(rows, key=lambda row: row.device)
