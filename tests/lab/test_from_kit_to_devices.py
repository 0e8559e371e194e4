"""From one kit to a laptop and many phones, each verified: one command, one link each, and nobody types a secret."""

from __future__ import annotations

import json

import pytest

from lab.links_server import PROGRAM, serving
from rotation import on_day
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab
NAME = "quillwort-wellington"


@pytest.fixture
def served(lab):
    """The server of links on the observatory's host."""
    with serving(lab):
        yield


def set_up_and_look(lab, link):
    """What one phone's owner does, from the link to the verdict; one stand-in is one phone after the other."""
    client = LabClient(lab.folder)
    client.phone(story.PHONE, "forget")
    client.as_owner(story.PHONE, lambda owner: owner.open_link(link), lambda _: None)
    client.phone(story.PHONE, "switch", on=True)
    verdict = client.as_owner(story.PHONE, lambda owner: owner.look(), lambda _: None)
    client.phone(story.PHONE, "switch", on=False)
    assert verdict["verdict"] == "sealed", verdict


@on_day(2, 3)
@pytest.mark.parametrize("count", [3, pytest.param(29, marks=pytest.mark.soak)])
def test_from_one_kit_to_many_devices(lab, served, tmp_path, count):
    """All are handed over to by one command; each is set up, verified, and in the administrator's list."""
    phones = [f"phone{number:02}" for number in range(1, count + 1)]
    rows = [f"{story.LAPTOP},laptop,{story.LAPTOP}", *(f"{name},phone," for name in phones)]
    (tmp_path / "devices.csv").write_text("\n".join(["name,kind,reach", *rows, ""]))
    lab.heron("devices", "import", str(tmp_path / "devices.csv"), check=0)
    lab.heron("devices", "assign", NAME, check=0)
    key = lab.heron("devices", "key").json
    accepted = lab.folder / story.LAPTOP / "administrator.key"
    accepted.write_text(f"{key['key']}\n")
    lab.shell(story.LAPTOP, PROGRAM, "enrol", "--accept", str(accepted), "--code", key["code"])
    settings = str(lab.folder / "heron" / "ssh" / "config")
    authority = str(lab.folder / story.LINKS_AUTHORITY)
    words = ("--all", "--ssh-config", settings, "--link", story.LINKS_URL, "--to", str(tmp_path))
    try:
        done = lab.heron(
            "hand-over", *words, "--report", story.LINKS_URL, "--report-authority", authority, check=0
        ).json
        assert len(done["devices"]) == count + 1
        for name in phones:
            link = (tmp_path / f"{name}.link.txt").read_text()
            set_up_and_look(lab, link)
        lab.shell(story.LAPTOP, PROGRAM, "verify", "--before")
        lab.shell(story.LAPTOP, PROGRAM, "connect", NAME, "--detach")
        try:
            report = json.loads(lab.shell(story.LAPTOP, PROGRAM, "report", "--json").out)
        finally:
            lab.shell(story.LAPTOP, PROGRAM, "disconnect")
        listed = lab.heron("devices", "list").json["devices"]
        assert report["verdict"] == "sealed" and len(listed) == count + 1
        assert {(one["state"], one["report"]["verdict"]) for one in listed} == {("in date", "sealed")}
        assert lab.heron("hand-over", *words, check=0).json["devices"] == []
    finally:
        lab.heron("devices", "remove", story.LAPTOP, *phones, check=0)
        for rule in lab.heron("devices", "rules").json["rules"]:
            lab.heron("devices", "unassign", str(rule["number"]), check=0)
        lab.shell(story.LAPTOP, PROGRAM, "remove", NAME, "--yes", check=None)
        lab.shell(story.LAPTOP, PROGRAM, "enrol", "--withdraw", key["code"])
