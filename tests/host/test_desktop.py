"""Notifications on a desktop: a real bus daemon of the tests' own, and a stand-in for the desktop's service on it."""

from __future__ import annotations

import os
import time
from contextlib import suppress
from pathlib import Path

import pytest

from desktop_stand_in import desktop_on
from support import until
from zesty_burrow.host.bus.desktop import Desktop, session_bus, show, words

STATUS = {"profile": "quillwort-lisbon", "city": "Lisbon", "country": "PT", "gateway_address": "198.51.100.18"}


def test_what_is_shown(tmp_path):
    """Each event in its words, through a process of its own; what came from outside cannot be markup."""
    with desktop_on(tmp_path) as (path, taken):
        desktop = Desktop(os.geteuid(), str(path))
        desktop.tell("up", STATUS)
        desktop.tell("lost", {**STATUS, "why": "the gateway said <b>no</b> & left", "guarded": True})
        desktop.finish()
        until(lambda: len(taken) == 2)
        (program, _, _, title, text, actions, hints, _), lost = taken
        assert (program, title, actions) == ("zesty", "Tunnel quillwort-lisbon is up", [])
        assert text == "Gateway 198.51.100.18 (Lisbon, PT)." and hints["urgency"] == ("y", 1)
        assert (
            lost[4]
            == "the gateway said &lt;b&gt;no&lt;/b&gt; &amp; left. Nothing leaves this machine until it is back."
        )
        assert lost[6]["urgency"] == ("y", 2)


def test_nobody_takes_it(tmp_path):
    """A bus that is gone: an error of ours; and telling it never waits."""
    with desktop_on(tmp_path) as (path, _):
        pass
    with pytest.raises(OSError):
        show(str(path), "title", "text", 1)
    began = time.monotonic()
    desktop = Desktop(os.geteuid(), str(path))
    for _ in range(2000):
        desktop.tell("up", STATUS)
    desktop.finish()
    assert time.monotonic() - began < 5


@pytest.mark.parametrize(
    ("event", "guarded", "said"),
    [
        ("lost", False, "Traffic may leave beside it."),
        ("lost", True, "Nothing leaves this machine until it is back."),
        ("blocked", True, "`zesty disconnect` opens it"),
        ("down", True, "disconnect."),
    ],
)
def test_the_truth_about_the_guard(event, guarded, said):
    """What is said of the guard is so: an event is "blocked" only where it is left closed."""
    assert said in words(event, {**STATUS, "why": "disconnect", "guarded": guarded})[1]


def test_whose_desktop(tmp_path):
    """The caller's: of sudo where root was called by it; none where there is no bus."""
    own = os.geteuid()
    assert session_bus({}, tmp_path) is None
    assert session_bus({"DBUS_SESSION_BUS_ADDRESS": f"unix:path={tmp_path}/nothing"}, tmp_path) is None
    with desktop_on(tmp_path) as (path, _):
        assert session_bus({"DBUS_SESSION_BUS_ADDRESS": f"unix:path={path},guid=0"}, tmp_path) == (own, str(path))
        if own == 0:
            (tmp_path / "4711").mkdir()
            (tmp_path / "4711" / "bus").symlink_to(path)
            given = {"SUDO_UID": "4711", "DBUS_SESSION_BUS_ADDRESS": f"unix:path={path}"}
            assert session_bus(given, tmp_path) == (4711, str(tmp_path / "4711" / "bus"))


def processes_of_4711():
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            if folder.stat().st_uid == 4711 and b"host.bus.desktop" in (folder / "cmdline").read_bytes():
                found.append(folder)
    return found


@pytest.mark.skipif(os.geteuid() != 0, reason="only root becomes another user")
def test_the_process_is_the_user_s(tmp_path):
    """It has the user's number and groups, and nothing of root's."""
    desktop = Desktop(4711, str(tmp_path / "nothing"))
    try:
        until(processes_of_4711)
        status = (processes_of_4711()[0] / "status").read_text().splitlines()
        rows = {line.partition(":")[0]: line.partition(":")[2].split() for line in status}
        assert rows["Uid"] == ["4711"] * 4 and rows["Gid"] == ["4711"] * 4 and rows["Groups"] == []
        assert rows["CapEff"] == ["0" * 16]
    finally:
        desktop.finish()
    assert processes_of_4711() == []


def test_what_a_verification_has_changed():
    title, text, urgency = words("changed", {"profile": "lisbon", "why": "exit: 198.51.100.19 became 198.51.100.20"})
    assert (title, urgency) == ("Tunnel lisbon: verified, and something has changed", 1)
    assert text == "exit: 198.51.100.19 became 198.51.100.20."
