"""Programs that are told what happens to a tunnel: which events, in which order, with what, and which are not run."""

from __future__ import annotations

import json
import sys

import pytest

from desktop_stand_in import desktop_on
from support import until
from zesty_burrow.lab.client import LabClient

pytestmark = pytest.mark.lab


@pytest.fixture
def hooks(lab, tmp_path):
    """A program that writes down what it is told, at first place in the folder."""
    folder, seen = lab.folder / "heron" / "hooks", tmp_path / "seen"
    folder.mkdir(mode=0o755)

    def write(name, text, mode=0o755):
        path = folder / name
        path.write_text(f"#!/bin/sh\n{text}\n")
        path.chmod(mode)
        return path

    write("10-write-down", f"{{ cat; env; echo; }} >> {seen}")

    def events():
        if not seen.exists():
            return []
        return [json.loads(line) for line in seen.read_text().splitlines() if line.startswith("{")]

    yield write, events, seen
    lab.heron("disconnect")
    for path in folder.iterdir():
        path.unlink()
    folder.rmdir()


def names(events):
    return [one["event"] for one in events()]


def test_each_event(lab, hooks):
    """Up, lost, back, down; with the tunnel's particulars and no secret, in an environment that is clean."""
    _, events, seen = hooks
    lab.heron("connect", "tallinn", "--detach", check=0)
    until(lambda: names(events) == ["up"])
    LabClient(lab.folder).call_host("tallinn", "end")
    until(lambda: names(events) == ["up", "lost", "back"])
    lab.heron("connect", "lisbon", "--detach", check=0)
    until(lambda: names(events)[3:] == ["up"])
    lab.heron("disconnect", check=0)
    assert names(events) == ["up", "lost", "back", "up", "down"]
    up, lost, back, switched, down = events()
    assert (up["profile"], up["country"], up["gateway_address"]) == ("quillwort-tallinn", "EE", back["gateway_address"])
    assert switched["profile"] == down["profile"] == "quillwort-lisbon"
    assert "gateway ended" in lost["why"] and down["why"] == "disconnect" and up["guarded"]
    text = seen.read_text()
    assert lab.password not in text
    variables = {line.partition("=")[0] for line in text.splitlines() if "=" in line and not line.startswith("{")}
    assert variables <= {"PATH", "LANG", "PWD", "SHLVL", "_"}
    log = [one for one in lab.heron("status", "--log", check=22).json["log"] if one["event"] == "hook"]
    assert {one["why"] for one in log} == {"done"}


def test_a_guard_that_stays_closed(lab, hooks):
    """The tunnel's process is told to go, and not the user's word: "blocked", and not "down"."""
    _, events, _ = hooks
    process = lab.heron("connect", "tallinn", "--detach", check=0).json["tunnel"]["process"]
    lab.shell("heron", "kill", "-TERM", str(process))
    until(lambda: names(events) == ["up", "blocked"])
    assert events()[1]["why"] == "signal SIGTERM"


def test_what_is_not_run(lab, hooks, tmp_path):
    """What others may write, what is not executable, what is hidden; one that fails is noted and holds nobody up."""
    write, events, _ = hooks
    for number, (name, mode) in enumerate({"20-open": 0o777, "30-text": 0o644, ".hidden": 0o755}.items()):
        write(name, f"touch {tmp_path}/run-{number}", mode)
    write("40-fails", "exit 3")
    write("50-slow", "sleep 2")
    write("60-held-up", f"cat > {tmp_path}/told")
    lab.heron("connect", "tallinn", "--detach", check=0)
    # Up, while the slow one still runs.
    assert not (tmp_path / "told").exists()
    until(lambda: names(events) == ["up"])
    lab.heron("disconnect", check=0)
    assert not list(tmp_path.glob("run-*"))
    log = [one for one in lab.heron("status", "--log", check=22).json["log"] if one["event"] == "hook"]
    told = {one["program"].rpartition("/")[2]: one["why"] for one in log}
    assert set(told) == {"10-write-down", "20-open", "40-fails", "50-slow", "60-held-up"}
    assert "other users may write" in told["20-open"] and told["40-fails"] == "it ended with 3"


def test_on_a_desktop(lab, tmp_path):
    """Whoever has a desktop sees it there, unless the settings say otherwise; and `disconnect` does not wait for it."""
    settings = lab.folder / "heron" / "settings.toml"
    before = settings.read_text()
    with desktop_on(tmp_path) as (bus, taken):
        call = ["env", f"DBUS_SESSION_BUS_ADDRESS=unix:path={bus}", sys.executable, "-m", "zesty_burrow"]
        lab.shell("heron", *call, "connect", "tallinn", "--detach")
        until(lambda: [one[3] for one in taken] == ["Tunnel quillwort-tallinn is up"])
        lab.shell("heron", *call, "disconnect")
        assert [one[3] for one in taken][1:] == ["Tunnel quillwort-tallinn has ended"]
        try:
            settings.write_text(f'{before}notifications = "off"\n')
            lab.shell("heron", *call, "connect", "tallinn", "--detach")
            lab.shell("heron", *call, "disconnect")
            settings.write_text(f'{before}notifications = "perhaps"\n')
            assert "It is on or off." in lab.shell("heron", *call, "connect", "tallinn", check=3).text
        finally:
            settings.write_text(before)
        assert len(taken) == 2
