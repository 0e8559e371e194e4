"""A tunnel that starts with the machine, under a real system manager as the first process: closed from the start on, and
whatever systemd, a signal or the shutdown does to it. A capture on the wire is the judge.
"""

from __future__ import annotations

import json
import os
import signal
import time
from collections import Counter

import pytest

from lab.booted_workstation import BootedWorkstation
from lab.clear_text_watch import KINDS, Watch
from support import until

pytestmark = pytest.mark.lab
TUNNEL, GUARD = "zesty-quillwort-lisbon.service", "zesty-guard.service"


@pytest.fixture
def machine(lab, tmp_path):
    one = BootedWorkstation(lab, tmp_path / "units")
    try:
        yield one
    finally:
        one.pull_the_plug()
        lab.heron("restore")
        lab.heron("disconnect")
        lab.heron("guard", "off", check=0)
        lab.heron("startup", "--into", str(one.units), "remove", "quillwort-lisbon")


@pytest.fixture
def watch(lab, tmp_path):
    one = Watch(lab, tmp_path)
    one.capture()
    one.send()
    time.sleep(0.4)
    yield one
    for process in one.processes:
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate(timeout=10)


def add(lab, machine):
    made = lab.heron("startup", "--into", str(machine.units), "add", "lisbon", check=0)
    assert "From the machine's start on nothing" in made.json["message"]
    assert {one.name for one in machine.units.glob("*.service")} == {TUNNEL, GUARD}


def is_up(machine):
    status = machine.zesty("status", check=None)
    return bool(status["tunnel"]) and status["tunnel"]["is_up"]


def forget_the_start(lab):
    """As after a restart of the machine: the record is of another one."""
    record = lab.folder / "heron" / "guard.json"
    record.write_text(record.read_text().replace('"boot": "', '"boot": "another '))
    record.chmod(0o600)


def nothing_between(watch, since, until_):
    assert Counter(kind for moment, kind in watch.read()[1] if since <= moment < until_) == {}
    assert watch.not_named(since, until_) == []


def test_closed_from_the_start_to_the_end(lab, machine, watch):
    """Start, kill, stop, restart, the guard's own process killed, shutdown: nothing leaves, and the tunnel comes back; the
    user's own word ends it, and then it is not started again.
    """
    add(lab, machine)
    forget_the_start(lab)
    machine.boot()
    until(lambda: is_up(machine))
    guard = machine.zesty("guard")["guard"]
    assert guard["in_force"] and guard["service"]["owns_the_table"]
    # The guard's process is systemd's, not the tunnel's child, and was there before the network.
    assert machine.show(GUARD, "ActiveState") == "active"
    before, after = (int(machine.show(unit, what)) for unit, what in (
        (GUARD, "ActiveEnterTimestampMonotonic"), ("network-pre.target", "ActiveEnterTimestampMonotonic"),
    ))  # fmt: skip
    assert 0 < before <= after
    begin = time.time()
    for number in ("TERM", "HUP", "KILL", "SEGV"):
        process = machine.main_process(TUNNEL)
        machine.run("kill", f"-{number}", process)
        until(lambda process=process: machine.main_process(TUNNEL) not in ("0", process))
        until(lambda: is_up(machine))
    machine.run("systemctl", "kill", "-s", "KILL", GUARD)
    machine.run("systemctl", "restart", TUNNEL)
    until(lambda: is_up(machine))
    assert machine.zesty("guard")["guard"]["in_force"]
    machine.run("systemctl", "stop", TUNNEL)
    time.sleep(1)
    assert machine.zesty("guard")["guard"]["in_force"]
    machine.run("systemctl", "stop", GUARD)
    time.sleep(0.5)
    # Nobody owns the tables now; the kernel keeps them.
    assert machine.zesty("guard")["guard"]["measured"] == "as intended"
    machine.run("systemctl", "start", GUARD, TUNNEL)
    until(lambda: is_up(machine))
    machine.power_off()
    time.sleep(0.5)
    end = time.time()
    nothing_between(watch, begin, end)
    assert {kind for moment, kind in watch.read()[1] if moment < begin} == KINDS
    # The next start, and the user's own word.
    forget_the_start(lab)
    machine.boot()
    until(lambda: is_up(machine))
    again = time.time()
    machine.zesty("disconnect")
    until(lambda: machine.state(TUNNEL) == "inactive")
    opened = time.time()
    time.sleep(3)
    assert machine.state(TUNNEL) == "inactive"
    assert machine.zesty("guard")["guard"]["measured"] == "absent"
    nothing_between(watch, end, again)
    assert any(moment > opened for moment, _ in watch.read()[1]), "it is not open again"


def test_a_start_without_a_network(lab, machine, watch):
    """The gateway cannot be reached at first: closed all the time, and up once there is a network."""
    add(lab, machine)
    forget_the_start(lab)
    lab.shell("heron", "ip", "route", "del", "default")
    lab.shell("heron", "ip", "-6", "route", "del", "default")
    try:
        machine.boot(wait=False)
        until(lambda: machine.state(GUARD) == "active")
        begin = time.time()
        until(lambda: machine.zesty("guard")["guard"]["in_force"])
        time.sleep(2)
    finally:
        lab.shell("heron", "ip", "route", "add", "default", "via", "192.168.77.1", "dev", "lan")
        lab.shell("heron", "ip", "-6", "route", "add", "default", "via", "2001:db8:c0b:77::1", "dev", "lan")
    until(lambda: is_up(machine), seconds=40)
    nothing_between(watch, begin, time.time())
    machine.zesty("disconnect")


def test_the_user_s_word_while_it_waits_to_be_started_again(lab, machine):
    """The tunnel's process is dead at that moment: the guard opens, and systemd starts nothing again."""
    add(lab, machine)
    forget_the_start(lab)
    lab.fault("lisbon", "refused-password")
    machine.boot(wait=False)
    until(lambda: machine.show(TUNNEL, "SubState") == "auto-restart", seconds=40)
    assert machine.zesty("guard")["guard"]["in_force"]
    machine.zesty("disconnect")
    time.sleep(3)
    assert machine.show(TUNNEL, "ActiveState") == "inactive"
    assert machine.zesty("guard")["guard"]["measured"] == "absent"


def test_verified_by_the_timer(lab, machine):
    """The unit judges the tunnel as a user would, with its reduced rights; a program is told what has changed."""
    add(lab, machine)
    home = lab.folder / "heron"
    # The unit has a /tmp of its own, so what it reads lies in the one folder that it shares.
    settings = (home / "settings.toml").read_text()
    authority = home / "observatory-authority.pem"
    authority.write_bytes((lab.folder / authority.name).read_bytes())
    (home / "settings.toml").write_text(settings.replace(str(lab.folder / authority.name), str(authority)))
    told, program = home / "told", home / "on-change"
    program.write_text(f"#!/bin/sh\ncat > {told}\n")
    program.chmod(0o700)
    words = ("add", "verify", "--every", "15", "--on-change", str(program))
    lab.heron("startup", "--into", str(machine.units), *words, check=0)
    try:
        forget_the_start(lab)
        machine.boot()
        until(lambda: is_up(machine))
        assert machine.state("zesty-verify.timer") == "active"
        before = machine.zesty("history")["count"]
        machine.run("systemctl", "start", "zesty-verify.service")
        seen = machine.zesty("history")
        assert seen["count"] == before + 1 and seen["runs"][0]["profile"] == "quillwort-lisbon"
        assert machine.show("zesty-verify.service", "Result") == "success"
        by_hand = machine.zesty("verify", check=None)
        assert (seen["runs"][0]["verdict"], seen["runs"][0]["headline"]) == (by_hand["verdict"], by_hand["headline"])
        machine.zesty("disconnect")
        machine.zesty("connect", "lisbon", "--detach", "--no-guard")
        lab.shell("heron", "ip", "rule", "add", "to", "192.0.2.0/24", "priority", "50", "table", "main")
        machine.run("systemctl", "start", "zesty-verify.service")
        assert json.loads(told.read_text())["verdict"] == "leaking"
    finally:
        lab.shell("heron", "ip", "rule", "del", "priority", "50", check=None)
        machine.zesty("disconnect", check=None)
        (home / "settings.toml").write_text(settings)
        lab.heron("startup", "--into", str(machine.units), "remove", "verify")
