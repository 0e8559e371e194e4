"""It waits on the server of links, encrypted, until the device fetches it."""

from __future__ import annotations

from collections.abc import Sequence

from zesty_burrow.fleet.keys import DEVICE, pickup_name, read_key
from zesty_burrow.store.devices import HANDED, Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Run, row_of
from zesty_burrow.use_cases.devices.plan import Plan
from zesty_burrow.use_cases.devices.request import HandOverRequest


def _offers(device: Device, request: HandOverRequest) -> str:
    return "where it is fetched" if device.key and request.pickup and device.runs_program else ""


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    for plan in plans:
        key = read_key(plan.device.key, DEVICE)
        number, data = run.work.numbered(plan, key)
        run.work.fleet.enrolments.leave(pickup_name(key), plan.device.name, number, data)
        ended(plan, row_of(plan, HANDED, "waits to be fetched"))


FORM = Form("pickup", _offers, _hand_over, notes_detail=True)
