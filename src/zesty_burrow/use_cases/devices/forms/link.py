"""A one-time link for the owner of a device without this program."""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import timedelta

from zesty_burrow.errors import UsageError
from zesty_burrow.fleet.standing import TIME
from zesty_burrow.store.devices import HANDED, Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Run, failed_row, problem_of_writing, row_of
from zesty_burrow.use_cases.devices.plan import Plan
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow


def _offers(device: Device, request: HandOverRequest) -> str:
    return "" if device.runs_program else request.link


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    for plan in plans:
        ended(plan, _to_link(plan, run))


def _to_link(plan: Plan, run: Run) -> HandOverRow:
    """What is behind it is kept encrypted; what opens it is in the link alone, which is shown or written once."""
    from zesty_burrow.fleet.links.link import page_content, seal_link
    from zesty_burrow.intake.readers.codes import make_codes, picture_of

    if plan.profile is None:
        raise UsageError(f"there is no profile for {plan.device.name}")
    request = run.request
    kept = {kind: value for kind, (_, value) in plan.credentials.items()}
    made = seal_link(page_content(plan.device, plan.profile, kept, os.urandom, request.check), os.urandom)
    url = where = made.url(request.link)
    if request.to is not None:
        path, code = request.to / f"{plan.device.name}.link.txt", make_codes(url)[0]
        files = {path: f"{url}\n".encode()}
        files |= {path.with_suffix(f".{kind}"): picture_of(code, kind) for kind in ("png", "svg")}
        problem = problem_of_writing(lambda: files, list(files))
        where = str(path)
        if problem is not None:
            return failed_row(plan, problem, to=where)
    until = (run.workspace.now() + timedelta(hours=request.hours)).strftime(TIME)
    run.work.fleet.links.add(made.name, plan.device.name, made.sealed, until)
    return row_of(plan, HANDED, f"link, to be opened once until {until}", to=where)


FORM = Form("link", _offers, _hand_over, notes_detail=True)
