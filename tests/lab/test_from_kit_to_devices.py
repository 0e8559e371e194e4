"""From one kit to a laptop and many phones, each verified: one command, one link each, and nobody types a secret."""

from __future__ import annotations

import json
import logging
import os
import sys

import pytest

from lab.links_server import PORT, PROGRAM, prepare, serving
from zesty_burrow.cli import main
from zesty_burrow.host.paths import HOME_VARIABLE
from zesty_burrow.lab import story
from zesty_burrow.lab.client import LabClient
from zesty_burrow.lab.devices.phone import Phone

pytestmark = pytest.mark.lab
NAME, SERVER = "quillwort-wellington", f"https://{story.LINKS_NAME}:{PORT}"


@pytest.fixture
def served(lab, tmp_path):
    """The server of links on the observatory's host; its authority."""
    authority = prepare(tmp_path)
    with serving(lab, tmp_path):
        yield authority


def set_up_and_look(lab, home, authority, link):
    """What one phone's owner does, from the link to the verdict; the phones share a place, and have stores of their own."""

    def act():
        logging.root.handlers.clear()
        os.environ[HOME_VARIABLE] = str(home)
        # Another process: the phone's client is a program by itself.
        said = []
        phone = Phone(home, authority.read_text(), run, said.append)
        phone.open_link(link)
        if run(["connect", NAME, "--detach"]) != 0:
            return 2
        try:
            verdict = phone.look()
        finally:
            run(["disconnect"])
        return 0 if verdict["verdict"] == "sealed" and said else 3

    def run(words):
        sys.stdout.flush()
        child = os.fork()
        if child == 0:
            os._exit(main(["--json", *words]))
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])

    home.mkdir(mode=0o700)
    assert LabClient(lab.folder).call(story.PHONE, act) == 0, home


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
    words = ("--all", "--ssh-config", settings, "--link", SERVER, "--to", str(tmp_path))
    try:
        done = lab.heron("hand-over", *words, "--report", SERVER, "--report-authority", str(served), check=0).json
        assert len(done["devices"]) == count + 1
        for name in phones:
            link = (tmp_path / f"{name}.link.txt").read_text()
            set_up_and_look(lab, lab.folder / story.PHONE / f"{count}-{name}", served, link)
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
