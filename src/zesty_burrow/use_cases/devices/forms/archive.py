"""For a device without this program: a ZIP whose files are encrypted (AES-256)."""

from __future__ import annotations

import io
from collections.abc import Sequence
from functools import partial

from zesty_burrow.store.devices import Device
from zesty_burrow.use_cases.devices.forms.form import Ended, Form, Run, to_new_file
from zesty_burrow.use_cases.devices.plan import Plan, Work
from zesty_burrow.use_cases.devices.request import HandOverRequest


def _offers(device: Device, request: HandOverRequest) -> str:
    return "" if device.runs_program or request.to is None else str(request.to / f"{device.name}.zip")


def _hand_over(plans: Sequence[Plan], run: Run, ended: Ended) -> None:
    file = run.request.passphrase_file
    passphrase = run.workspace.ask_passphrase("Passphrase of the archives: ", file, confirm=True)
    for plan in plans:
        ended(plan, to_new_file(plan, partial(_archive, plan, run.work, passphrase)))


def _archive(plan: Plan, work: Work, passphrase: str) -> bytes:
    import pyzipper

    stream = io.BytesIO()
    with pyzipper.AESZipFile(stream, "w", pyzipper.ZIP_DEFLATED, encryption=pyzipper.WZ_AES) as opened:
        opened.setpassword(passphrase.encode())
        for name, data in work.files(plan).items():
            opened.writestr(name, data)
    return stream.getvalue()


FORM = Form("archive", _offers, _hand_over)
