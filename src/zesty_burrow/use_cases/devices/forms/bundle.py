"""A file for a device with this program, encrypted to the device's key."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from zesty_burrow.fleet.keys import DEVICE, read_key
from zesty_burrow.store.devices import Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Problem, Run, to_new_file
from zesty_burrow.use_cases.devices.plan import Plan
from zesty_burrow.use_cases.devices.request import HandOverRequest


def _offers(device: Device, request: HandOverRequest) -> str:
    return "" if request.to is None else str(request.to / f"{device.name}.bundle")


def _lacks_key(device: Device) -> Problem | None:
    step = "Run `zesty enrol` there, and add what it shows."
    return None if device.key else ("device-not-enrolled", "it has no key yet", step)


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    for plan in plans:
        key = read_key(plan.device.key, DEVICE)
        ended(plan, to_new_file(plan, partial(run.work.bundle, plan, key)))


FORM = Form("bundle", _offers, _hand_over, lacks=_lacks_key)
