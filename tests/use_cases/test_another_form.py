"""A form of handing over is one file: planned, carried out, noted in the list, and told, without a line elsewhere."""

from __future__ import annotations

import pytest

from support import AUTHORITY, PASSWORD
from zesty_burrow import use_cases as zesty
from zesty_burrow.lab.kit import kit_archive, kit_files
from zesty_burrow.store.devices import HANDED
from zesty_burrow.use_cases.devices.forms import FORMS
from zesty_burrow.use_cases.devices.forms.form import Form, row_of


def _hand_over(plans, run, ended):
    for plan in plans:
        (run.request.to / plan.device.name).write_bytes(run.work.files(plan)[f"{plan.name}.toml"])
        ended(plan, row_of(plan, HANDED, "lies in the drawer"))


DRAWER = Form(
    "drawer",
    lambda device, request: str(request.to or "") if "drawer" in device.tags else "",
    _hand_over,
    notes_detail=True,
    lacks=lambda device: None if device.owner else ("device-no-way", "whose drawer?", "Name its owner."),
)


@pytest.fixture
def _drawer():
    FORMS.insert(0, DRAWER)
    yield
    FORMS.remove(DRAWER)


@pytest.mark.usefixtures("_drawer")
def test_another_form(tmp_path):
    """One device has what it needs, the other one lacks an owner; a third one is handed over as before."""
    (tmp_path / "kit.zip").write_bytes(kit_archive(kit_files(AUTHORITY.pem(), PASSWORD)))
    workspace = zesty.Workspace.in_folder(tmp_path / "home")
    zesty.import_kit(zesty.ImportRequest(zesty.KitRequest((str(tmp_path / "kit.zip"),))), workspace)
    for name, owner, tags in (("plover", "Marit", ("drawer",)), ("curlew", "", ("drawer",)), ("heron", "Marit", ())):
        zesty.add_device(name, zesty.DeviceValues("phone", owner, add_tags=tags), workspace)
    zesty.assign_profile(zesty.AssignRequest("quillwort-lisbon"), workspace)
    to = tmp_path / "out"
    to.mkdir()
    request = zesty.HandOverRequest(everything=True, to=to, dry_run=True)
    planned = {row.device: (row.form, row.state, row.cause) for row in zesty.hand_over(request, workspace).rows}
    assert planned == {
        "plover": ("drawer", "ready", ""),
        "curlew": ("drawer", "failed", "device-no-way"),
        "heron": ("archive", "ready", ""),
    }
    (row,) = zesty.hand_over(zesty.HandOverRequest(("plover",), to=to), workspace).rows
    assert (row.state, row.detail) == (HANDED, "lies in the drawer") and (to / "plover").read_text()
    (standing,) = zesty.list_devices(zesty.DeviceFilter(("plover",)), workspace)
    assert (standing.last.form, standing.last.detail) == ("drawer", "lies in the drawer")
