"""By SSH: a bundle to this program, or files into a folder of a device without it."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import TYPE_CHECKING

from zesty_burrow.errors import BurrowError
from zesty_burrow.store.devices import CONFIRMED, FAILED, HANDED, WAITING, Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Problem, Run, failed_row, row_of
from zesty_burrow.use_cases.devices.plan import Plan, Work
from zesty_burrow.use_cases.devices.request import HandOverRequest, HandOverRow

if TYPE_CHECKING:
    from zesty_burrow.fleet.push import Receipt, SshOptions

STATE_OF = {"imported": CONFIRMED, "waiting": WAITING}


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    from zesty_burrow.fleet.many import run_all
    from zesty_burrow.fleet.push import SshOptions

    asked = run.request
    options = SshOptions(asked.timeout, asked.ssh_config, asked.ssh_known_hosts, asked.ssh_keys, asked.program)

    async def push(plan: Plan) -> HandOverRow:
        try:
            return _received(plan, await _push(plan, run.work, options))
        except BurrowError as problem:
            return failed_row(plan, (problem.slug, str(problem), problem.next_step))

    asyncio.run(run_all(plans, push, asked.at_once, ended))


async def _push(plan: Plan, work: Work, options: SshOptions) -> Receipt:
    from zesty_burrow.fleet.push import Target, push_bundle, push_files

    target = Target.of(plan.device.reach)
    if plan.form == FILES.name:
        return await push_files(target, options, plan.device.folder, work.files(plan))
    key, receipt = await push_bundle(target, options, plan.device.key, lambda key: work.bundle(plan, key))
    if key.text != plan.device.key:
        work.fleet.note_key(plan.device.name, key.text)
    return receipt


def _received(plan: Plan, receipt: Receipt) -> HandOverRow:
    """Files are there, and nobody has said that they are used."""
    state = HANDED if plan.form == FILES.name else STATE_OF.get(receipt.state, FAILED)
    if state == FAILED:
        return failed_row(plan, ("device-no-answer", receipt.state, "Update this program there."))
    words = {WAITING: "waiting for its owner to agree", HANDED: receipt.detail}
    return row_of(plan, state, words.get(state, "imported"))


def _lacks_folder(device: Device) -> Problem | None:
    step = "zesty devices change NAME --folder PATH"
    return None if device.folder else ("device-no-folder", "it does not run this program", step)


def _push_offers(device: Device, _request: HandOverRequest) -> str:
    return device.reach if device.runs_program else ""


def _files_offers(device: Device, _request: HandOverRequest) -> str:
    return "" if device.runs_program else device.reach


PUSH = Form("push", _push_offers, _hand_over, extra="ssh")
FILES = Form("files", _files_offers, _hand_over, extra="ssh", lacks=_lacks_folder)
